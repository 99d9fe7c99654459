using System.Globalization;
using System.Net;
using System.Net.Sockets;
using System.Text.Json.Nodes;
using System.Text.RegularExpressions;
using Microsoft.Data.Sqlite;
using Rovett.Client;
using Rovett.Testing;
using Rovett.Testing.Servers;
using Shouldly;
using Xunit;

namespace Rovett.EndToEnd;

/// <summary><c>rovett doctor</c>: faults that are planted are found, each as what it is; where nothing is wrong, nothing is.</summary>
public sealed class DoctorTests : IAsyncLifetime
{
    const string Page = "https://app.example";
    readonly string folder = Directory.CreateTempSubdirectory("rovett-doctor-").FullName;
    ServiceProcess service = null!;
    Proxy? proxy;

    public async ValueTask InitializeAsync() => service = await ServiceProcess.Start(folder,
        environment: new Dictionary<string, string> { ["ROVETT_ORIGINS"] = Page, ["ROVETT_HEARTBEAT_SECONDS"] = "3" });

    public async ValueTask DisposeAsync()
    {
        if (proxy is not null) await proxy.DisposeAsync();
        service.Dispose();
        Directory.Delete(folder, recursive: true);
    }

    string Key => (string)service.Ready["credentials"]!["adminKey"]!;
    string Secret => (string)service.Ready["credentials"]!["tokenSigningSecret"]!;

    /// <summary>What is at fault or has a warning: the names of the checks. Latency is left out: it depends on how busy this machine
    /// is.</summary>
    static async Task<(string[] Wrong, JsonNode Json)> Examine(string[] args, params (string Name, string Value)[] environment)
    {
        var run = await ServiceProcess.Cli(["doctor", "--json", .. args], environment.ToDictionary(e => e.Name, e => e.Value));
        run.Error.ShouldBeEmpty();
        var json = JsonNode.Parse(run.Out)!;
        var wrong = json["findings"]!.AsArray().Where(f => (string)f!["verdict"]! is "fault" or "warning").ToList();
        wrong.ShouldAllBe(f => ((string)f!["fix"]!).Length > 10 && ((string)f["see"]!).StartsWith("docs/doctor.md#",
            StringComparison.Ordinal));
        run.ExitCode.ShouldBe(wrong.Exists(f => (string)f!["verdict"]! == "fault") ? 1 : 0);
        return ([.. wrong.Select(f => (string)f!["check"]!).Where(check => check != "latency")], json);
    }

    async Task<(string[] Wrong, JsonNode Json)> Outside(Uri url, string? key = null, string? secret = null, string origin = Page,
        bool quick = true, string? trusts = null)
    {
        Task<(string[] Wrong, JsonNode Json)> Once() =>
            Examine(["--url", url.ToString(), "--origin", origin, .. quick ? ["--quick"] : Array.Empty<string>()],
                [("ROVETT_KEY", key ?? Key), ("ROVETT_TOKEN_SECRET", secret ?? Secret), .. trusts is null ? Array.Empty<(string,
                    string)>() : [("SSL_CERT_FILE", trusts)]]);
        var examined = await Once();
        // A busy machine may answer too late. What is wrong with a proxy is still wrong the second time.
        return examined.Json.ToJsonString().Contains("was not answered within", StringComparison.Ordinal) ? await Once() : examined;
    }

    static string Found(JsonNode json, string check) => (string)json["findings"]!.AsArray().Single(f =>
        (string)f!["check"]! == check)!["what"]!;

    async Task<Uri> Nginx(string location, bool passes = true) => (proxy = await Proxy.Nginx(service.Url.Port, location, passes)).Url;

    [Theory]
    [InlineData("nginx.conf")]
    [InlineData("haproxy.cfg")]
    [InlineData("Caddyfile")]
    public async Task Nothing_is_wrong_behind_a_proxy_with_the_shipped_configuration(string file)
    {
        proxy = await Proxy.Shipped(file, service.Url.Port);
        var (wrong, json) = await Outside(proxy.Url, quick: false, trusts: proxy.Certificate);
        wrong.ShouldBeEmpty(json.ToJsonString());
        json["findings"]!.AsArray().Count(f => (string)f!["verdict"]! == "skipped").ShouldBe(0);
        foreach (var transport in new[] { "websocket", "events", "long-poll" }) Found(json, transport).ShouldContain("A test " +
            "notification came after");
        using var left = new RovettClient(service.Url, Key);
        (await left.Call(HttpMethod.Get, "/v1/users?search=doctor"))["users"]!.AsArray().ShouldBeEmpty("nobody is left of it");
    }

    [Theory]
    [InlineData("websocket", Proxy.Simple)]
    [InlineData("events", Proxy.Upgrading + "gzip on; gzip_proxied any; gzip_types text/event-stream; gzip_min_length 1;")]
    [InlineData("origin", Proxy.Upgrading + "add_header Access-Control-Allow-Origin $http_origin always;")]
    [InlineData("origin", Proxy.Upgrading + "if ($request_method = OPTIONS) { return 204; }")]
    [InlineData("body-size", Proxy.Upgrading + "client_max_body_size 100k;")]
    public async Task What_a_proxy_does_wrong_is_found(string check, string location)
    {
        var (wrong, json) = await Outside(await Nginx(location));
        wrong.ShouldBe([check], json.ToJsonString());
    }

    [Fact]
    public async Task A_proxy_that_holds_streams_back_is_found()
    {
        using var relay = new Relay(service.Url.Port) { BuffersStreams = true };
        var (wrong, json) = await Outside(relay.Url);
        wrong.ShouldBe(["events"]);
        Found(json, "events").ShouldContain("held back");
    }

    [Fact]
    public async Task A_proxy_that_drops_the_credential_is_found()
    {
        var (wrong, _) = await Outside(await Nginx(Proxy.Upgrading + "proxy_set_header Authorization \"\";"));
        wrong.ShouldBe(["key", "token"]);
    }

    [Theory]
    [InlineData(Proxy.Upgrading)]
    [InlineData(Proxy.Simple)]
    public async Task A_proxy_that_cuts_quiet_connections_is_found(string location)
    {
        var (wrong, json) = await Outside(await Nginx(location + "proxy_read_timeout 2s;"), quick: false);
        wrong.ShouldContain("quiet");
        Found(json, "quiet").ShouldContain("was cut after 2 s; the service shows a sign of life every 3 s");
    }

    [Fact]
    public async Task HAProxy_with_a_short_time_out_and_Caddy_without_the_upgrade_are_found()
    {
        proxy = await Proxy.Shipped("haproxy.cfg", service.Url.Port, text => Regex.Replace(text,
            @"timeout (tunnel|server|client) +\S+", "timeout $1 2s"));
        var (wrong, _) = await Outside(proxy.Url, quick: false, trusts: proxy.Certificate);
        wrong.ShouldBe(["quiet"]);
        await proxy.DisposeAsync();
        proxy = await Proxy.Shipped("Caddyfile", service.Url.Port, text => text.Replace("flush_interval -1",
            "flush_interval -1\nheader_up -Upgrade\nheader_up -Connection", StringComparison.Ordinal));
        (wrong, _) = await Outside(proxy.Url, trusts: proxy.Certificate);
        wrong.ShouldBe(["websocket"]);
    }

    [Fact]
    public async Task Addresses_that_lead_nowhere_or_elsewhere_are_found()
    {
        var (wrong, json) = await Outside(new Uri($"http://127.0.0.1:{FreePort.Next()}"));
        wrong.ShouldBe(["reachable"]);
        Found(json, "reachable").ShouldContain("can't be reached");
        (wrong, json) = await Outside(await Nginx("return 301 https://elsewhere.example$request_uri;", passes: false));
        wrong.ShouldBe(["reachable"]);
        Found(json, "reachable").ShouldContain("redirects to https://elsewhere.example");
        await proxy!.DisposeAsync();
        (wrong, json) = await Outside(await Nginx("return 200 'another service';", passes: false));
        wrong.ShouldBe(["reachable"]);
        Found(json, "reachable").ShouldContain("not as Rovett does");
        await proxy.DisposeAsync();
        proxy = await Proxy.Nginx(FreePort.Next(), Proxy.Upgrading);
        (wrong, json) = await Outside(proxy.Url);
        wrong.ShouldBe(["reachable"]);
        Found(json, "reachable").ShouldContain("does not reach the service");
    }

    [Fact]
    public async Task Credentials_of_another_environment_and_an_origin_that_is_not_listed_are_found()
    {
        var (wrong, json) = await Outside(service.Url, key: "rovett_key_" + new string('k', 43), secret: new string('q', 43),
            origin: Page + "/");
        wrong.ShouldBe(["origin", "key", "token"]);
        Found(json, "key").ShouldContain("another installation");
        Found(json, "origin").ShouldContain("may not connect");
        Found(json, "token").ShouldContain("token-signature");
    }

    [Fact]
    public async Task An_origin_that_is_not_listed_is_the_only_fault()
    {
        var (wrong, json) = await Outside(service.Url, origin: "https://elsewhere.example");
        wrong.ShouldBe(["origin"], json.ToJsonString());
    }

    [Theory]
    [InlineData("127.0.0.1", 30, false, "tls")] // signed by nobody that is known
    [InlineData("notify.example", 30, true, "tls")]
    [InlineData("127.0.0.1", 10, true, "certificate")]
    [InlineData("127.0.0.1", -1, true, "certificate")]
    public async Task A_certificate_that_is_not_right_is_found(string name, int days, bool isTrusted, string check)
    {
        proxy = await Proxy.Shipped("nginx.conf", service.Url.Port, name: name, until: TimeSpan.FromDays(days));
        var (wrong, json) = await Outside(proxy.Url, trusts: isTrusted ? proxy.Certificate : null);
        wrong.ShouldContain(check, json.ToJsonString());
        bool isSent = json["findings"]!.AsArray().Any(f => (string)f!["check"]! == "token");
        isSent.ShouldBe(days == 10, "no secret goes over a connection that is not trusted");
    }

    [Fact]
    public async Task A_service_that_stops_to_answer_is_found()
    {
        proxy = await Proxy.Nginx(service.Url.Port, Proxy.Upgrading + "if ($uri = /v1/status) { return 444; }");
        var (wrong, json) = await Outside(proxy.Url);
        wrong.ShouldBe(["key"], json.ToJsonString());
        Found(json, "key").ShouldContain("A request failed");
    }

    [Fact]
    public async Task From_inside_a_service_that_is_well_has_no_fault()
    {
        var data = Path.Combine(folder, "data");
        var (wrong, json) = await Examine(["--data", data], ("ROVETT_PORT", $"{service.Url.Port}"), ("ROVETT_METRICS", "off"));
        wrong.Except(["disk-sync", "disk-space", "open-files", "listen-backlog",
            "file-system"]).ShouldBeEmpty(json.ToJsonString()); // this machine's own
        Found(json, "store").ShouldBe("The store is undamaged.");
    }

    [Fact]
    public async Task From_inside_what_is_wrong_with_a_folder_is_found()
    {
        var data = Path.Combine(folder, "data");
        File.SetUnixFileMode(data, (UnixFileMode)0b111_101_101);
        var config = Path.Combine(folder, "rovett.yaml");
        var secret = Path.Combine(folder, "key.pem");
        await File.WriteAllTextAsync(secret, "");
        File.SetUnixFileMode(secret, (UnixFileMode)0b110_100_100);
        await File.WriteAllTextAsync(config, $"data: {data}\nadress: 0.0.0.0\naddress: 0.0.0.0\n");
        (await Examine(["--config", config], ("ROVETT_PORT", $"{service.Url.Port}"))).Wrong.ShouldContain("configuration");
        using var taken = new TcpListener(IPAddress.Loopback, 0);
        taken.Start();
        var (wrong, json) = await Examine(["--data", data, "--quick"], ("ROVETT_PORT", $"{FreePort.Next()}"), ("ROVETT_ADDRESS",
            "0.0.0.0"));
        wrong.ShouldContain("data-folder");
        wrong.ShouldContain("encryption");
        wrong.ShouldContain("port", "it runs, and does not listen there");
        using (var backend = new RovettClient(service.Url, Key))
        {
            for (int i = 0; i < 3; i++)
                await backend.Send(new JsonObject
                {
                    ["to"] = new JsonArray("user:mara"),
                    ["type"] = "t",
                    ["title"] = "Bow thruster check due"
                });
        }
        await service.Kill();
        (wrong, _) = await Examine(["--data", data, "--quick"], ("ROVETT_PORT", $"{((IPEndPoint)taken.LocalEndpoint).Port}"));
        wrong.ShouldContain("port", "something else listens there");
        var backups = Directory.CreateDirectory(Path.Combine(folder, "backups")).FullName;
        async Task<(string[] Wrong, JsonNode Json)> OfBackups() => await Examine(["--data", data, "--quick"], ("ROVETT_BACKUPS", backups));
        (wrong, json) = await OfBackups();
        wrong.ShouldContain("backups");
        Found(json, "backups").ShouldContain("There is no backup");
        Directory.CreateDirectory(Path.Combine(backups, "20260101T000000Z"));
        (wrong, json) = await OfBackups();
        wrong.ShouldContain("backups");
        Found(json, "backups").ShouldContain("to be made every 1d");
        Directory.CreateDirectory(Path.Combine(backups, DateTime.UtcNow.ToString("yyyyMMdd'T'HHmmss'Z'", CultureInfo.InvariantCulture)));
        (await OfBackups()).Wrong.ShouldNotContain("backups");
        (await Examine(["--data", Path.Combine(folder, "none")])).Wrong.ShouldContain("data-folder");

        using (var damage = new SqliteConnection($"Data Source={Path.Combine(data, "history.db")};Pooling=False"))
        {
            damage.Open();
            using var cut = damage.CreateCommand();
            cut.CommandText = "UPDATE space SET floor=floor+7";
            cut.ExecuteNonQuery();
        }
        (wrong, json) = await Examine(["--data", data]);
        wrong.ShouldContain("store", json.ToJsonString());

        var memory = Directory.CreateDirectory(Path.Combine("/dev/shm", $"rovett-doctor-{Environment.ProcessId}"),
            UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute).FullName;
        try
        {
            (await Examine(["--data", memory])).Wrong.ShouldContain("file-system");
        }
        finally
        {
            Directory.Delete(memory, recursive: true);
        }
    }

    [Fact]
    public async Task From_inside_what_is_wrong_with_a_database_is_found()
    {
        var (wrong, json) = await Examine(["--database", $"Host=127.0.0.1;Port={FreePort.Next()};Username=rovett;Database=none"]);
        wrong.ShouldContain("database");
        Found(json, "database").ShouldContain("can't be used");
        using var server = new PostgresServer(); // which does not wait for its disk, as its data is worthless
        var database = server.NewDatabase();
        (wrong, json) = await Examine(["--database", database]);
        wrong.ShouldContain("database");
        Found(json, "database").ShouldContain("before what it stores is on disk");
        using var lasting = PostgresServer.Lasting();
        (wrong, json) = await Examine(["--database", lasting.NewDatabase()]);
        wrong.ShouldNotContain("database", json.ToJsonString());
        using var pooler = new PgBouncer(lasting, "transaction");
        await pooler.Start();
        (_, json) = await Examine(["--database", pooler.Database("store1")]);
        Found(json, "database").ShouldContain("session pooling");
    }
}
