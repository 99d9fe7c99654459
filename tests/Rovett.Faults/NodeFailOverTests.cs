using System.Collections.Concurrent;
using System.Text.Json.Nodes;
using Npgsql;
using Rovett.Client;
using Rovett.Storage.Postgres;
using Rovett.Testing;
using Rovett.Testing.Servers;
using Shouldly;
using Xunit;
using static Rovett.Faults.AnsweredSends;

namespace Rovett.Faults;

/// <summary>What happens beneath and beside nodes: the database fails over to a standby; the node of a quiet space dies while a deadline
/// runs.</summary>
public sealed class NodeFailOverTests : IDisposable
{
    readonly string folder = Directory.CreateTempSubdirectory("rovett-fail-over-").FullName;
    readonly List<ServiceProcess> nodes = [];
    string[] urls = [];

    public void Dispose()
    {
        foreach (var node in nodes) node.Dispose();
        Directory.Delete(folder, recursive: true);
    }

    async Task Start(int count, string database)
    {
        var secret = Path.Combine(folder, "cluster-secret");
        await File.WriteAllTextAsync(secret, new string('s', 40));
        urls = [.. Enumerable.Range(0, count).Select(_ => $"https://127.0.0.1:{FreePort.Next()}")];
        foreach (var url in urls)
        {
            nodes.Add(await ServiceProcess.Start(Directory.CreateDirectory(Path.Combine(folder, $"{nodes.Count}")).FullName,
                ["--database", database, "--node-url", url, "--cluster-secret-file", secret],
                new Dictionary<string, string> { ["ROVETT_RECONNECT_WINDOW_SECONDS"] = "1" }, log: "error"));
        }
    }

    string Key => (string)nodes[0].Ready["credentials"]!["adminKey"]!;

    static object? Ask(string database, string sql)
    {
        using var connection = new NpgsqlConnection(database + ";Pooling=false");
        connection.Open();
        using var command = new NpgsqlCommand(sql, connection);
        return command.ExecuteScalar();
    }

    [Fact]
    public async Task A_fail_over_to_a_synchronous_standby_beneath_three_nodes_loses_nothing()
    {
        using var first = new PostgresServer();
        var name = first.NewDatabase().Split('=')[^1];
        using var second = first.Standby();
        var both = $"Host=127.0.0.1:{first.Port},127.0.0.1:{second.Port};Username=rovett;Database={name}";
        await Start(3, both);
        using var front = new Front();
        front.Leads(nodes.Select(n => n.Url.Port));
        using var client = new RovettClient(front.Url, Key);
        var answered = new ConcurrentDictionary<string, string>();
        var mara = new Watch("mara", ["engineer"]);
        using var stop = new CancellationTokenSource();
        var receiving = mara.Receive(front.Url, (string)nodes[0].Ready["credentials"]!["tokenSigningSecret"]!, stop.Token);
        using var enough = new CancellationTokenSource();
        var sending = Enumerable.Range(0, 4).Select(sender => Task.Run(async () =>
        {
            for (int i = 0; !enough.IsCancellationRequested; i++) await SendUntilAnswered(client, $"{sender}-{i}", answered);
        })).ToArray();
        await Eventually.Holds(() => answered.Count > 200, "sends are under way", 60);
        first.Crash();
        second.Promote();
        int before = answered.Count;
        await Eventually.Holds(() => answered.Count > before + 200, "sends go on", 60);
        await enough.CancelAsync();
        await Task.WhenAll(sending);
        await SendUntilAnswered(client, "the last", answered);
        await Eventually.Holds(() => mara.Has(answered["the last"]), "the device has the last one", 60);
        await stop.CancelAsync();
        await receiving;
        using var reader = PostgresHistory.Read($"Host=127.0.0.1;Port={second.Port};Username=rovett;Database={name}");
        reader.Check().ShouldBeEmpty();
        var history = reader.History(1).Where(e => e.Id is not null).Select(e => e.Id!.Value.ToString()).ToList();
        answered.Values.Where(id => !history.Contains(id)).ShouldBeEmpty("each answered send is stored");
        history.Distinct().Count().ShouldBe(history.Count);
        mara.Received.Distinct().SequenceEqual(history).ShouldBeTrue($"the device received {mara.Received.Distinct().Count()} of {history.Count}");
    }

    [Fact]
    public async Task A_deadline_in_a_space_that_nobody_uses_is_kept_after_its_node_has_died()
    {
        using var server = new PostgresServer();
        var database = server.NewDatabase();
        await Start(2, database);
        using var client = new RovettClient(nodes[0].Url, Key);
        await client.Send(new JsonObject
        {
            ["to"] = new JsonArray("user:mara"),
            ["type"] = "engine.check.due",
            ["title"] = "Turnstone: pump check due",
            ["deadlines"] = new JsonArray(new JsonObject
            {
                ["by"] = "read",
                ["within"] = "PT4S",
                ["otherwise"] = new JsonObject { ["to"] = new JsonArray("role:engineer"), ["type"] = "engine.check.missed", ["title"] = "Nobody has looked" },
            }),
        });
        const string Owner = "SELECT n.url FROM space_owner o JOIN node n USING (incarnation) WHERE o.space=1",
            Missed = "SELECT count(*) FROM entry WHERE type='engine.check.missed'";
        var died = (string)Ask(database, Owner)!;
        ((long)Ask(database, Missed)!).ShouldBe(0);
        await nodes[Array.IndexOf(urls, died)].Kill();
        // Nothing is asked of the other node: the database says what it does.
        await Eventually.Holds(() => (long)Ask(database, Missed)! == 1, "the deadline was missed, and that is stored", 30);
        Ask(database, Owner).ShouldNotBe(died);
    }
}
