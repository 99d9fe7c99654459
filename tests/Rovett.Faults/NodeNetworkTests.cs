using System.Collections.Concurrent;
using System.Diagnostics;
using System.Net;
using System.Text.Json.Nodes;
using Npgsql;
using Rovett.Client;
using Rovett.Storage.Postgres;
using Rovett.Testing;
using Rovett.Testing.Servers;
using Shouldly;
using Xunit;
using static Rovett.Testing.Network;

namespace Rovett.Faults;

/// <summary>Two nodes on two machines, as far as their networks go, each of which reaches the database, and devices that reach both. The
/// network between the nodes is cut, or that to the database, or one of the machines loses its power.</summary>
public sealed class NodeNetworkTests : IAsyncLifetime
{
    static readonly int number = Environment.ProcessId % 250;
    static readonly string inside = $"rvn{number}", between = $"rvb{number}", front = $"rvf{number}";

    static readonly int PowerOffs = int.TryParse(Environment.GetEnvironmentVariable("ROVETT_POWER_OFFS"), out int count) ? count : 1;

    readonly PostgresServer server = new();
    readonly string folder = Directory.CreateTempSubdirectory("rovett-cut-").FullName;
    readonly List<ServiceProcess> nodes = [];
    readonly List<string> urls = [$"https://10.212.{number}.1:{FreePort.Next()}", $"https://10.212.{number}.2:{FreePort.Next()}"];
    string database = "";
    Front? toDatabase; // for the second node; like a server, it keeps its connections open when that node becomes unreachable

    public async ValueTask InitializeAsync()
    {
        await Ip($"netns add {inside}");
        foreach (var (name, there, net) in new[] { (between, "nodes", 212), (front, "front", 213) })
        {
            await Ip($"link add {name} type veth peer name {there} netns {inside}");
            await Ip($"addr add 10.{net}.{number}.1/30 dev {name}");
            await Ip($"-n {inside} addr add 10.{net}.{number}.2/30 dev {there}");
            // While it is down, its addresses lead nowhere: not to a gateway that may answer for them.
            await Ip($"route add unreachable 10.{net}.{number}.0/30 metric 9999");
            await Ip($"link set {name} up");
            await Ip($"-n {inside} link set {there} up");
        }
        await Ip($"-n {inside} link set lo up");
        database = server.NewDatabase();
        await File.WriteAllTextAsync(Path.Combine(folder, "cluster-secret"), new string('s', 40));
        toDatabase = new Front(IPAddress.Parse($"10.213.{number}.1"));
        toDatabase.Leads([server.Port]);
        for (int node = 0; node < 2; node++) nodes.Add(await Start(node));
    }

    Task<ServiceProcess> Start(int node)
    {
        bool isInside = node == 1;
        var to = new NpgsqlConnectionStringBuilder(database);
        if (isInside) (to.Host, to.Port) = (toDatabase!.Url.Host, toDatabase.Url.Port);
        return ServiceProcess.Start(Directory.CreateDirectory(Path.Combine(folder, $"{node}")).FullName,
            ["--database", to.ToString(), "--node-url", urls[node], "--cluster-secret-file", Path.Combine(folder, "cluster-secret"),
            "--address", isInside ? $"10.213.{number}.2" : "127.0.0.1"], log: "warning", network: isInside ? inside : null);
    }

    public async ValueTask DisposeAsync()
    {
        foreach (var node in nodes) node.Dispose();
        await Ip($"netns del {inside}");
        foreach (int net in new[] { 212, 213 }) await Ip($"route del unreachable 10.{net}.{number}.0/30 metric 9999");
        toDatabase?.Dispose();
        server.Dispose();
        Directory.Delete(folder, recursive: true);
    }

    object? Ask(string sql)
    {
        using var connection = new NpgsqlConnection(database + ";Pooling=false");
        connection.Open();
        using var command = new NpgsqlCommand(sql, connection);
        return command.ExecuteScalar();
    }

    [Fact]
    public async Task A_node_that_is_cut_off_from_the_one_that_serves_tells_nothing_that_was_revoked_and_misses_nothing()
    {
        var (key, secret) = ((string)nodes[0].Ready["credentials"]!["adminKey"]!, (string)nodes[0].Ready["credentials"]!["tokenSigningSecret"]!);
        using var client = new RovettClient(nodes[0].Url, key);
        await Serves(0, client, stays: true);
        var term = Ask("SELECT term FROM space_owner WHERE space=1");
        var answered = new ConcurrentDictionary<string, string>();
        Task Send(string title) => AnsweredSends.Send(client, title, answered);
        var (mara, teo) = (new Watch("mara", ["engineer"]), new Watch("teo", ["crew"]));
        using var stop = new CancellationTokenSource();
        using var way = new Front(); // on loopback, as clients show tokens without TLS nowhere else
        way.Leads([new IPEndPoint(IPAddress.Parse(nodes[1].Url.Host), nodes[1].Url.Port)]);
        var receiving = Task.WhenAll(mara.Receive(way.Url, secret, stop.Token), teo.Receive(way.Url, secret, stop.Token));
        await Eventually.Holds(async () => (await client.Call(HttpMethod.Get, "/v1/sessions"))["sessions"]!.AsArray().Count(s => (string)s!["state"]! == "live"),
            n => n == 2, "both devices are live at the second node");
        await Send("before");
        await Send("before for teo");
        await Eventually.Holds(() => mara.Has(answered["before"]) && teo.Has(answered["before for teo"]), "they have what came before");

        // By the node that does not serve the space; it then has a connection to the other.
        using var there = new RovettClient(way.Url, key);
        async Task<RovettRefusedException> Through() => await Should.ThrowAsync<RovettRefusedException>(() =>
            there.Call(HttpMethod.Post, "/v1/notifications", ToRuth()));
        await there.Call(HttpMethod.Post, "/v1/notifications", ToRuth());

        await Ip($"link set {between} down");
        var waited = Stopwatch.StartNew();
        var underWay = Through();
        _ = underWay.ContinueWith(_ => waited.Stop(), TaskScheduler.Default);
        await Send("during");
        var clock = Stopwatch.StartNew();
        await client.Call(HttpMethod.Post, "/v1/users/teo/sign-out");
        clock.Elapsed.ShouldBeInRange(TimeSpan.FromSeconds(0.3), TimeSpan.FromSeconds(3.5), "the node that can't be asked is waited for until it stops by itself");
        await Send("after for teo");
        await Eventually.Holds(async () => (await client.Call(HttpMethod.Get, "/v1/sessions"))["sessions"]!.AsArray().Count, n => n == 0,
            "the sessions of the other node are given up", 20);
        (await underWay).Slug.ShouldBeOneOf("outcome-unknown", "node-cut-off");
        (await Through()).Slug.ShouldBe("node-cut-off");
        await Eventually.Holds(() => Ready(nodes[1]), text => text.Contains("node-cut-off", StringComparison.Ordinal), "it is not ready", 20);
        (await Ready(nodes[0])).ShouldStartWith("ready");
        var cut = await client.Call(HttpMethod.Get, "/v1/cluster");
        cut["nodes"]!.AsArray().Select(n => ((string)n!["node"]!, (string)n["state"]!)).ShouldBe([(urls[0], "serving"), (urls[1], "cut-off")],
            ignoreOrder: true);
        Ask("SELECT term FROM space_owner WHERE space=1").ShouldBe(term, "nobody took the space: its node is alive");

        await Ip($"link set {between} up");
        await Eventually.Holds(() => mara.Has(answered["during"]), "it is back and has what it missed", 30);
        await Eventually.Holds(() => Ready(nodes[1]), text => text.StartsWith("ready", StringComparison.Ordinal), "it is ready again", 20);
        await Send("at the end");
        await Eventually.Holds(() => mara.Has(answered["at the end"]), "and what comes");
        mara.Received.Distinct().ShouldBe([answered["before"], answered["during"], answered["at the end"]]);
        teo.Received.Count(id => id == answered["before for teo"]).ShouldBeGreaterThan(0);
        await stop.CancelAsync();
        await receiving;
        TestContext.Current.SendDiagnosticMessage($"A send under way was refused after {waited.Elapsed.TotalSeconds:0.0} s");
        waited.Elapsed.ShouldBeLessThan(TimeSpan.FromSeconds(15)); // 4 on a machine that does nothing else
    }

    static JsonObject ToRuth() => new() { ["to"] = new JsonArray("user:ruth"), ["type"] = "t", ["title"] = "through the other node" };

    static async Task<string> Ready(ServiceProcess node)
    {
        using var http = new HttpClient();
        using var answer = await http.GetAsync(new Uri(node.Url, "/readyz"));
        return await answer.Content.ReadAsStringAsync();
    }

    [Fact]
    public async Task A_node_that_no_other_reaches_gives_its_spaces_up_and_serves_again_once_one_does()
    {
        urls.Add($"https://10.212.{number}.1:{FreePort.Next()}");
        nodes.Add(await Start(2));
        var key = (string)nodes[0].Ready["credentials"]!["adminKey"]!;
        using var client = new RovettClient(nodes[0].Url, key);
        var answered = new ConcurrentDictionary<string, string>();
        await Serves(1, client, stays: true);
        await AnsweredSends.Send(client, "before", answered);
        await Ip($"link set {between} down");
        var clock = Stopwatch.StartNew();
        await AnsweredSends.Writable(nodes[2], key, answered, "after");
        TestContext.Current.SendDiagnosticMessage($"A space whose node nobody reaches is writable again after {clock.Elapsed.TotalSeconds:0.0} s");
        clock.Elapsed.ShouldBeLessThan(TimeSpan.FromSeconds(20)); // 5 on a machine that does nothing else
        await Eventually.Holds(() => Ready(nodes[1]), text => text.Contains("node-cut-off", StringComparison.Ordinal), "it is not ready", 20);
        await Ip($"link set {between} up");
        await Eventually.Holds(() => Served() == urls[1], "it serves the space again, as is wanted", 30);
        await AnsweredSends.Writable(nodes[1], key, answered, "at the end");
        using var reader = PostgresHistory.Read(database);
        reader.Check().ShouldBeEmpty();
        reader.History(1).Where(e => e.Id is not null).Select(e => e.Id!.Value.ToString())
            .ShouldBe([answered["before"], answered["after"], answered["at the end"]]);
    }

    string? Served() => (string?)Ask("SELECT n.url FROM space_owner o JOIN node n USING (incarnation) WHERE o.space=1");

    /// <summary>Has a node serve the space.</summary>
    /// <param name="node">The node.</param>
    /// <param name="client">Of any node.</param>
    /// <param name="stays">It serves the space again when it comes back.</param>
    async Task Serves(int node, RovettClient client, bool stays = false)
    {
        await Eventually.Holds(async () => (await client.Call(HttpMethod.Get, "/v1/cluster"))["nodes"]!.AsArray().Count(n =>
            (string)n!["state"]! == "serving"), n => n == nodes.Count, "all are there", 60);
        await client.Call(HttpMethod.Post, "/v1/cluster/moves", new JsonObject { ["space"] = "main", ["node"] = urls[node] });
        await Eventually.Holds(() => Served() == urls[node], "the node serves the space", 30);
        if (!stays) await client.Call(HttpMethod.Post, "/v1/cluster/moves", new JsonObject { ["space"] = "main" });
    }

    [Fact]
    public async Task A_machine_that_loses_its_power_or_its_way_to_the_database_is_followed_within_seconds_and_nothing_is_lost_or_doubled()
    {
        var (key, secret) = ((string)nodes[0].Ready["credentials"]!["adminKey"]!, (string)nodes[0].Ready["credentials"]!["tokenSigningSecret"]!);
        using var client = new RovettClient(nodes[0].Url, key);
        var answered = new ConcurrentDictionary<string, string>();
        var mara = new Watch("mara", ["engineer"]);
        using var stop = new CancellationTokenSource();
        var receiving = mara.Receive(nodes[0].Url, secret, stop.Token);
        using var sendersStop = new CancellationTokenSource();
        var senders = Enumerable.Range(0, 3).Select(sender => Task.Run(async () =>
        {
            for (int i = 0; !sendersStop.IsCancellationRequested; i++)
                await AnsweredSends.SendUntilAnswered(client, $"{sender}-{i}", answered);
        })).ToArray();
        var times = new List<(string What, double Seconds)>();
        for (int trial = 0; trial < PowerOffs * 2; trial++)
        {
            bool isPower = trial % 2 == 0;
            await Serves(1, client);
            int before = answered.Count;
            await Eventually.Holds(() => answered.Count > before + 50, "sends are under way", 60);
            Served().ShouldBe(urls[1], "it is in use");
            var clock = Stopwatch.StartNew();
            await Ip($"link set {front} down");
            if (isPower)
            {
                await Ip($"link set {between} down");
                await nodes[1].Kill();
            }
            await AnsweredSends.Writable(nodes[0], key, answered, $"after fault {trial}");
            times.Add((isPower ? "power" : "database", clock.Elapsed.TotalSeconds));
            await Ip($"link set {front} up");
            if (!isPower) continue;
            await Ip($"link set {between} up");
            nodes[1].Dispose();
            nodes[1] = await Start(1);
        }
        await sendersStop.CancelAsync();
        await Task.WhenAll(senders);
        await AnsweredSends.SendUntilAnswered(client, "the last", answered);
        await Eventually.Holds(() => mara.Has(answered["the last"]), "the device has the last one", 60);
        await stop.CancelAsync();
        await receiving;
        using var reader = PostgresHistory.Read(database);
        reader.Check().ShouldBeEmpty();
        var stored = reader.History(1).Where(e => e.Id is not null).Select(e => e.Id!.Value.ToString()).ToList();
        stored.Distinct().Count().ShouldBe(stored.Count);
        answered.Values.Except(stored).ShouldBeEmpty();
        answered.Values.Distinct().Count().ShouldBe(answered.Count);
        mara.Received.Distinct().ShouldBe(stored);
        var report = $"{answered.Count} answered sends; writable again after, s: {string.Join(", ", times.Select(t => $"{t.What} {t.Seconds:0.0}"))}";
        TestContext.Current.SendDiagnosticMessage(report);
        if (Environment.GetEnvironmentVariable("ROVETT_NODE_REPORT") is { } file) await File.AppendAllTextAsync(file, report + "\n");
        times.ShouldAllBe(t => t.Seconds < 20, report + nodes[0].Printed); // 5 on a machine that does nothing else
    }
}
