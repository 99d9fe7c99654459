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
    static readonly Dictionary<string, string> Short = new() { ["ROVETT_RECONNECT_WINDOW_SECONDS"] = "1" };
    NodeProcesses? nodes;

    public void Dispose() => nodes?.Dispose();

    async Task<NodeProcesses> Start(int count, string database) =>
        await (nodes = new NodeProcesses(count, database) { Environment = Short }).Begin();

    [Fact]
    public async Task A_fail_over_to_a_synchronous_standby_beneath_three_nodes_loses_nothing()
    {
        using var first = new PostgresServer();
        var name = first.NewDatabase().Split('=')[^1];
        using var second = first.Standby();
        var both = $"Host=127.0.0.1:{first.Port},127.0.0.1:{second.Port};Username=rovett;Database={name}";
        var cluster = await Start(3, both);
        using var client = new RovettClient(cluster.Front.Url, cluster.Key);
        var answered = new ConcurrentDictionary<string, string>();
        var mara = new Watch("mara", ["engineer"]);
        using var stop = new CancellationTokenSource();
        var receiving = mara.Receive(cluster.Front.Url, cluster.SigningSecret, stop.Token);
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
        mara.Received.Distinct().SequenceEqual(history).ShouldBeTrue($"the device received {mara.Received.Distinct().Count()} of " +
            $"{history.Count}");
    }

    [Fact]
    public async Task A_fail_over_that_loses_commits_beneath_three_nodes_is_told_to_devices_and_then_all_is_right()
    {
        using var first = new PostgresServer();
        var name = first.NewDatabase().Split('=')[^1];
        using var second = first.Standby(isSynchronous: false);
        var cluster = await Start(3, $"Host=127.0.0.1:{first.Port},127.0.0.1:{second.Port};Username=rovett;Database={name}");
        using var client = new RovettClient(cluster.Front.Url, cluster.Key);
        var (answered, lost) = (new ConcurrentDictionary<string, string>(), new ConcurrentDictionary<string, string>());
        var token = TestTokens.Make(cluster.SigningSecret, "mara", ["engineer"]);
        var devices = new List<RawWebSocket>();
        for (int i = 0; i < cluster.Count; i++)
        {
            devices.Add(await RawWebSocket.Connect(cluster[i].Url.Port, "/v1/live", token));
            await devices[i].Next("opened");
        }
        for (int i = 0; i < 50; i++) await SendUntilAnswered(client, $"kept {i}", answered);
        await Eventually.Holds(() => Entries(name, second), n => n == 50, "the standby has them");
        second.StopFollowing();
        for (int i = 0; i < 20; i++) await SendUntilAnswered(client, $"lost {i}", lost);
        var cursors = new List<string>();
        foreach (var device in devices) cursors.Add((string)(await device.Notifications(70))[^1]["cursor"]!);
        first.Crash();
        second.Promote();
        var going = SendUntilAnswered(client, "went on", answered);
        for (int i = 0; i < cluster.Count; i++)
        {
            (await cluster[i].End()).ShouldBe(1, cluster[i].Printed);
            cluster[i].Printed.ShouldContain("lost commits");
            devices[i].Dispose();
        }
        await cluster.Begin();
        await going;
        for (int i = 0; i < cluster.Count; i++)
        {
            using var back = await RawWebSocket.Connect(cluster[i].Url.Port, $"/v1/live?after={cursors[i]}", token);
            ((string)(await back.Next("gap"))["reason"]!).ShouldBe("new-life");
            await SendUntilAnswered(client, $"after {i}", answered);
            while ((string)(await back.Next("notification"))["title"]! != $"after {i}") { }
        }
        using var reader = PostgresHistory.Read(cluster.Database);
        reader.Check().ShouldBeEmpty();
        var history = reader.History(1).Where(e => e.Id is not null).Select(e => e.Id!.Value.ToString()).ToList();
        history.ShouldBe(answered.Values, ignoreOrder: true);
        using var mara = new RovettClient(cluster.Front.Url, token);
        ((int)(await mara.Call(HttpMethod.Get, "/v1/inbox/totals"))["unread"]!).ShouldBe(history.Count);
    }

    static async Task<long> Entries(string name, PostgresServer server)
    {
        await using var connection = new NpgsqlConnection($"Host=127.0.0.1;Port={server.Port};Username=rovett;Database={name};Pooling=false");
        await connection.OpenAsync();
        await using var command = new NpgsqlCommand("SELECT count(*) FROM entry WHERE kind=1", connection);
        return (long)(await command.ExecuteScalarAsync())!;
    }

    [Fact]
    public async Task A_deadline_in_a_space_that_nobody_uses_is_kept_after_its_node_has_died()
    {
        using var server = new PostgresServer();
        var database = server.NewDatabase();
        var cluster = await Start(2, database);
        using var client = new RovettClient(cluster[0].Url, cluster.Key);
        await client.Send(new JsonObject
        {
            ["to"] = new JsonArray("user:mara"),
            ["type"] = "engine.check.due",
            ["title"] = "Turnstone: pump check due",
            ["deadlines"] = new JsonArray(new JsonObject
            {
                ["by"] = "read",
                ["within"] = "PT4S",
                ["otherwise"] = new JsonObject
                {
                    ["to"] = new JsonArray("role:engineer"),
                    ["type"] = "engine.check.missed",
                    ["title"] = "Nobody has looked"
                },
            }),
        });
        const string Owner = "SELECT n.url FROM space_owner o JOIN node n USING (incarnation) WHERE o.space=1",
            Missed = "SELECT count(*) FROM entry WHERE type='engine.check.missed'";
        var died = (string)cluster.Ask(Owner)!;
        ((long)cluster.Ask(Missed)!).ShouldBe(0);
        await cluster[Array.IndexOf(cluster.Urls, died)].Kill();
        // Nothing is asked of the other node: the database says what it does.
        await Eventually.Holds(() => (long)cluster.Ask(Missed)! == 1, "the deadline was missed, and that is stored", 30);
        cluster.Ask(Owner).ShouldNotBe(died);
    }
}
