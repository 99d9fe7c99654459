using System.Collections.Concurrent;
using System.Diagnostics;
using System.Net;
using System.Net.Security;
using System.Net.Sockets;
using System.Security.Cryptography;
using System.Security.Cryptography.X509Certificates;
using System.Text.Json.Nodes;
using Rovett.Client;
using Rovett.Testing;
using Shouldly;
using Xunit;

namespace Rovett.EndToEnd;

/// <summary>nginx, HAProxy and Caddy from Debian's packages in front of the service: with the configurations that are shipped, TLS and
/// HTTP/2 at the front, and as they should not be.</summary>
public sealed class ProxyTests : IAsyncLifetime
{
    const string Simple = "proxy_http_version 1.1; proxy_set_header Connection \"\"; proxy_set_header Host $http_host;";
    const string Upgrading = "proxy_http_version 1.1; proxy_set_header Upgrade $http_upgrade; proxy_set_header Connection upgrade; " +
        "proxy_set_header Host $http_host;";
    readonly string folder = Directory.CreateTempSubdirectory("rovett-proxy-").FullName;
    readonly SocketsHttpHandler handler = new()
    {
        UseProxy = false,
        SslOptions = new SslClientAuthenticationOptions { RemoteCertificateValidationCallback = (_, _, _, _) => true }
    };
    readonly int port = FreePort();
    ServiceUnderTest service = null!;
    Process? proxy;

    public async ValueTask InitializeAsync() => service = await ServiceUnderTest.Start();

    public async ValueTask DisposeAsync()
    {
        if (proxy is not null)
        {
            proxy.Kill(entireProcessTree: true);
            await proxy.WaitForExitAsync();
            proxy.Dispose();
        }
        handler.Dispose();
        await service.DisposeAsync();
        Directory.Delete(folder, recursive: true);
    }

    static int FreePort()
    {
        using var free = new TcpListener(IPAddress.Loopback, 0);
        free.Start();
        return ((IPEndPoint)free.LocalEndpoint).Port;
    }

    /// <summary>Runs a proxy with a configuration that is shipped, changed as its first line says.</summary>
    async Task<Uri> Shipped(string file)
    {
        using (var key = ECDsa.Create(ECCurve.NamedCurves.nistP256))
        {
            using var made = new CertificateRequest("CN=notify.example", key,
                HashAlgorithmName.SHA256).CreateSelfSigned(DateTimeOffset.UtcNow.AddDays(-1), DateTimeOffset.UtcNow.AddDays(2));
            var (certificate, keyText) = (made.ExportCertificatePem() + "\n", key.ExportPkcs8PrivateKeyPem() + "\n");
            await File.WriteAllTextAsync(Path.Combine(folder, "certificate.pem"), certificate);
            await File.WriteAllTextAsync(Path.Combine(folder, "key.pem"), keyText);
            await File.WriteAllTextAsync(Path.Combine(folder, "certificate-and-key.pem"), certificate + keyText);
        }
        var text = await File.ReadAllTextAsync(Path.Combine(ServiceProcess.Root, "docs", "deploy", file));
        text = text.Replace("/etc/rovett", folder, StringComparison.Ordinal)
            .Replace("notify.example:443", $"127.0.0.1:{port}", StringComparison.Ordinal)
            .Replace("listen 443", $"listen 127.0.0.1:{port}", StringComparison.Ordinal)
            .Replace("bind :443", $"bind 127.0.0.1:{port}", StringComparison.Ordinal)
            .Replace("127.0.0.1:7411", $"127.0.0.1:{service.Port}", StringComparison.Ordinal)
            .Replace("maxconn 20000", "maxconn 500", StringComparison.Ordinal)
            .Replace("worker_connections 20000", "worker_connections 500", StringComparison.Ordinal);
        var config = Path.Combine(folder, file);
        await File.WriteAllTextAsync(config, file == "nginx.conf"
            ? NginxHead + text.Replace("http {", "http { " + NginxFolders, StringComparison.Ordinal)
            : text);
        return file switch
        {
            "nginx.conf" => await Run("https", "nginx", "-p", folder, "-c", config),
            "haproxy.cfg" => await Run("https", "haproxy", "-db", "-q", "-f", config),
            _ => await Run("https", "caddy", "run", "--adapter", "caddyfile", "--config", config),
        };
    }

    string NginxHead => $"daemon off; master_process off; pid {folder}/nginx.pid; error_log {folder}/error.log;\n";
    string NginxFolders => $"client_body_temp_path {folder}/body; proxy_temp_path {folder}/proxy; fastcgi_temp_path {folder}/f; " +
        $"uwsgi_temp_path {folder}/u; scgi_temp_path {folder}/s;";

    /// <summary>nginx with what stands in its location, without TLS.</summary>
    async Task<Uri> Nginx(string location)
    {
        var config = Path.Combine(folder, "nginx.conf");
        await File.WriteAllTextAsync(config, $$"""
            {{NginxHead}}
            events { worker_connections 256; }
            http {
              access_log off; {{NginxFolders}}
              server {
                listen 127.0.0.1:{{port}};
                location / { proxy_pass http://127.0.0.1:{{service.Port}}; {{location}} }
              }
            }
            """);
        return await Run("http", "nginx", "-p", folder, "-c", config);
    }

    async Task<Uri> Run(string scheme, string program, params string[] arguments)
    {
        var start = new ProcessStartInfo(File.Exists("/usr/sbin/" + program) ? "/usr/sbin/" + program : program, arguments)
        { RedirectStandardError = true, RedirectStandardOutput = true };
        foreach (var home in new[] { "HOME", "XDG_DATA_HOME", "XDG_CONFIG_HOME" }) start.Environment[home] = folder;
        proxy = Process.Start(start)!;
        var said = new ConcurrentQueue<string?>();
        proxy.ErrorDataReceived += (_, line) => said.Enqueue(line.Data);
        proxy.OutputDataReceived += (_, line) => said.Enqueue(line.Data);
        proxy.BeginErrorReadLine();
        proxy.BeginOutputReadLine();
        using var http = new HttpClient(handler, disposeHandler: false);
        await Eventually.Holds(async () =>
        {
            try
            {
                return (await http.GetAsync($"{scheme}://127.0.0.1:{port}/healthz")).IsSuccessStatusCode ? "" : "an error";
            }
            catch (HttpRequestException error)
            {
                return $"{error.Message} {string.Join('\n', said)}";
            }
        }, trouble => trouble.Length == 0, $"{program} answers");
        return new Uri($"{scheme}://127.0.0.1:{port}");
    }

    /// <summary>Receives until it has as many; the last ones are sent when it is live. Each ack is seen to arrive.</summary>
    async Task<(string Transport, List<string> Titles)> Receive(Uri url, int count, Func<LiveConnection, Task<int>>? whenLive = null)
    {
        using var live = new LiveConnection(url, _ => new ValueTask<string>(service.Token("mara", "engineer")),
            new LiveOptions { Device = "desk", Handler = handler, AckEvery = 1 });
        using var limit = new CancellationTokenSource(TimeSpan.FromSeconds(60));
        var titles = new List<string>();
        Task? sending = null;
        var transport = "";
        await foreach (var message in live.Messages(limit.Token))
        {
            if ((string)message["kind"]! == "current") sending ??= SendRest(live, titles.Count);
            if ((string)message["kind"]! == "notification") titles.Add((string)message["title"]!);
            if (titles.Count < count) continue;
            transport = live.Transport!;
            await live.Send(new JsonObject { ["kind"] = "ack", ["upTo"] = (string)message["cursor"]! });
            break;
        }
        if (titles.Count < count) throw new InvalidOperationException($"The stream ended after {titles.Count}: {live.LastTrouble}");
        await sending!;
        await Eventually.Holds(() => service.Get("/v1/inbox", service.Token("mara", "engineer")),
            a => a.Json!["items"]!.AsArray().All(i => i!["state"]!["received"] is not null), "all are received");
        return (transport, titles);

        async Task SendRest(LiveConnection live, int from)
        {
            if (whenLive is not null) from += await whenLive(live);
            for (int i = from; i < count; i++) await service.Send("role:engineer", $"live {i}");
        }
    }

    static readonly string[] Four = ["before", "live 1", "live 2", "live 3"];

    [Theory]
    [InlineData("nginx.conf")]
    [InlineData("haproxy.cfg")]
    [InlineData("Caddyfile")]
    public async Task With_the_shipped_configuration_the_WebSocket_passes_and_so_do_streams_without_delay(string file)
    {
        var url = await Shipped(file);
        await service.Send("role:engineer", "before");
        var (transport, titles) = await Receive(url, 4);
        transport.ShouldBe("websocket");
        titles.ShouldBe(Four);

        // A stream over HTTP/2 at the front: each event at once, and the post beside it.
        using var stream = new LiveConnection(url, _ => new ValueTask<string>(service.Token("mara", "engineer")),
            new LiveOptions { Transport = LiveTransport.Sse, Device = "desk", Handler = handler, After = "now" });
        using var limit = new CancellationTokenSource(TimeSpan.FromSeconds(20));
        int came = 0;
        await foreach (var message in stream.Messages(limit.Token))
        {
            var kind = (string)message["kind"]!;
            if (kind == "current" || (kind == "notification" && ++came < 3)) await service.Send("role:engineer", $"streamed {came}");
            if (came == 3) break;
        }
        stream.Reconnects.ShouldBe(0);
        using var http = new HttpClient(handler, disposeHandler: false) { DefaultRequestVersion = HttpVersion.Version20 };
        using var answer = await http.GetAsync(new Uri(url, "/healthz"));
        (answer.Version, (int)answer.StatusCode).ShouldBe((HttpVersion.Version20, 200));
        // A page of the proxy's own address is the service's own; another's is not.
        (await Ask(url, url.ToString().TrimEnd('/'))).ShouldBe(200);
        (await Ask(url, "https://elsewhere.example")).ShouldBe(403);
    }

    async Task<int> Ask(Uri url, string origin)
    {
        using var http = new HttpClient(handler, disposeHandler: false);
        using var request = new HttpRequestMessage(HttpMethod.Get, new Uri(url, "/v1/inbox"));
        request.Headers.Authorization = new("Bearer", service.Token("mara", "engineer"));
        request.Headers.Add("Origin", origin);
        using var answer = await http.SendAsync(request);
        return (int)answer.StatusCode;
    }

    [Fact]
    public async Task With_the_upgrade_stripped_and_responses_buffered_it_goes_on_over_events_and_loses_nothing()
    {
        // Buffering is on, as is nginx's default: the stream's own X-Accel-Buffering switches it off for itself.
        var url = await Nginx(Simple +
            "proxy_buffering on; proxy_buffers 8 64k; gzip on; gzip_types text/event-stream; gzip_min_length 1;");
        await service.Send("role:engineer", "before");
        var (transport, titles) = await Receive(url, 4);
        (transport, string.Join(' ', titles)).ShouldBe(("sse", string.Join(' ', Four)));
    }

    [Theory]
    [InlineData("websocket", Upgrading)]
    [InlineData("sse", Simple)]
    public async Task Where_quiet_connections_are_cut_it_comes_back_and_loses_and_doubles_nothing(string transport, string location)
    {
        var url = await Nginx(location + "proxy_read_timeout 2s; proxy_send_timeout 2s;");
        await service.Send("role:engineer", "before");
        var (used, titles) = await Receive(url, 4, async live =>
        {
            await Eventually.Holds(() => live.Reconnects >= 2, "it was cut twice", 30);
            await service.Send("role:engineer", "while it is cut");
            return 1;
        });
        used.ShouldBe(transport);
        titles.ShouldBe(["before", "while it is cut", "live 2", "live 3"]);
    }
}
