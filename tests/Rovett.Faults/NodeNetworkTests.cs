using System.Collections.Concurrent;
using System.Diagnostics;
using System.Net;
using System.Text.Json.Nodes;
using Npgsql;
using Rovett.Client;
using Rovett.Testing;
using Rovett.Testing.Servers;
using Shouldly;
using Xunit;
using static Rovett.Testing.Network;

namespace Rovett.Faults;

/// <summary>Two nodes on two networks, each of which reaches the database, and devices that reach both; the network between the nodes is
/// cut.</summary>
public sealed class NodeNetworkTests : IAsyncLifetime
{
    static readonly int number = Environment.ProcessId % 250;
    static readonly string inside = $"rvn{number}", between = $"rvb{number}", front = $"rvf{number}";

    readonly PostgresServer server = new();
    readonly string folder = Directory.CreateTempSubdirectory("rovett-cut-").FullName;
    readonly List<ServiceProcess> nodes = [];
    readonly string[] urls = [$"https://10.212.{number}.1:{FreePort.Next()}", $"https://10.212.{number}.2:{FreePort.Next()}"];
    string database = "";

    public async ValueTask InitializeAsync()
    {
        await Ip($"netns add {inside}");
        foreach (var (name, there, net) in new[] { (between, "nodes", 212), (front, "front", 213) })
        {
            await Ip($"link add {name} type veth peer name {there} netns {inside}");
            await Ip($"addr add 10.{net}.{number}.1/30 dev {name}");
            await Ip($"-n {inside} addr add 10.{net}.{number}.2/30 dev {there}");
            await Ip($"link set {name} up");
            await Ip($"-n {inside} link set {there} up");
        }
        await Ip($"-n {inside} link set lo up");
        database = server.NewDatabase();
        var secret = Path.Combine(folder, "cluster-secret");
        await File.WriteAllTextAsync(secret, new string('s', 40));
        foreach (var (url, network) in urls.Zip(new[] { null, inside }))
        {
            nodes.Add(await ServiceProcess.Start(Directory.CreateDirectory(Path.Combine(folder, $"{nodes.Count}")).FullName,
                ["--database", database, "--node-url", url, "--cluster-secret-file", secret, "--address", network is null ? "127.0.0.1" : $"10.213.{number}.2"],
                log: "error", network: network));
        }
    }

    public async ValueTask DisposeAsync()
    {
        foreach (var node in nodes) node.Dispose();
        await Ip($"netns del {inside}");
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
        await client.Call(HttpMethod.Post, "/v1/cluster/moves", new JsonObject { ["space"] = "main", ["node"] = urls[0] });
        await Eventually.Holds(() => (string?)Ask("SELECT n.url FROM space_owner o JOIN node n USING (incarnation) WHERE o.space=1") == urls[0],
            "the first node serves the space", 30);
        await Eventually.Holds(async () => (await client.Call(HttpMethod.Get, "/v1/cluster"))["nodes"]!.AsArray().Count, n => n == 2, "both are there");
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

        await Ip($"link set {between} down");
        await Send("during");
        var clock = Stopwatch.StartNew();
        await client.Call(HttpMethod.Post, "/v1/users/teo/sign-out");
        clock.Elapsed.ShouldBeInRange(TimeSpan.FromSeconds(0.3), TimeSpan.FromSeconds(3.5), "the node that can't be asked is waited for until it stops by itself");
        await Send("after for teo");
        await Eventually.Holds(async () => (await client.Call(HttpMethod.Get, "/v1/sessions"))["sessions"]!.AsArray().Count, n => n == 0,
            "the sessions of the other node are given up", 20);
        Ask("SELECT term FROM space_owner WHERE space=1").ShouldBe(term, "nobody took the space: its node is alive");

        await Ip($"link set {between} up");
        await Eventually.Holds(() => mara.Has(answered["during"]), "it is back and has what it missed", 30);
        await Send("at the end");
        await Eventually.Holds(() => mara.Has(answered["at the end"]), "and what comes");
        mara.Received.Distinct().ShouldBe([answered["before"], answered["during"], answered["at the end"]]);
        teo.Received.Count(id => id == answered["before for teo"]).ShouldBeGreaterThan(0);
        await stop.CancelAsync();
        await receiving;
    }
}
