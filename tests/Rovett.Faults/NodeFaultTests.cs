using System.Collections.Concurrent;
using System.Diagnostics;
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

/// <summary>Three nodes with one database, under a stream of sends: whatever happens to a node or to the database, nothing answered is
/// lost, nothing is doubled, and devices have everything of their users once and in order. <c>ROVETT_NODE_FAULTS</c> says how many faults,
/// <c>ROVETT_NODE_KINDS</c> which, <c>ROVETT_NODE_REPORT</c> where a report is added, <c>ROVETT_NODE_LOG</c> where the
/// log of the last nodes goes.</summary>
public sealed class NodeFaultTests
{
    static readonly int Faults = int.TryParse(Environment.GetEnvironmentVariable("ROVETT_NODE_FAULTS"), out int number) ? number : 10;
    const int Senders = 4;

    enum Fault
    {
        KillOwner,
        KillOther,
        PauseOwner,
        PauseOwnerForLong,
        PauseOther,
        StopOwner,
        RestartDatabase,
        MoveSpace,
        DrainOwner,
        OldSnapshot,
    }

    // Each kind comes before any comes again.
    static readonly Fault[] Kinds = Environment.GetEnvironmentVariable("ROVETT_NODE_KINDS") is { } kinds
        ? [.. kinds.Split(',').Select(Enum.Parse<Fault>)] : Enum.GetValues<Fault>();

    [Fact]
    public async Task Nothing_answered_is_lost_or_doubled_whatever_happens_to_a_node()
    {
        using var server = new PostgresServer();
        int seed = Environment.TickCount;
        var random = new Random(seed);
        using var nodes = new NodeProcesses(3, server.NewDatabase(), "information");
        var answered = new ConcurrentDictionary<string, string>();
        var times = new Dictionary<Fault, List<double>>();
        using var stop = new CancellationTokenSource();
        NpgsqlConnection? old = null;
        try
        {
            await nodes.Begin();
            await nodes.Owner();
            var (key, secret, front) = (nodes.Key, nodes.SigningSecret, nodes.Front.Url);
            using var client = new RovettClient(front, key);
            var mara = new Watch("mara", ["engineer"]);
            var teo = new Watch("teo", ["crew"]);
            var receiving = Task.WhenAll(mara.Receive(front, secret, stop.Token), teo.Receive(front, secret, stop.Token));
            using var sendersStop = new CancellationTokenSource();
            var senders = Enumerable.Range(0, Senders).Select(sender => Task.Run(async () =>
            {
                for (int i = 0; !sendersStop.IsCancellationRequested; i++)
                {
                    await SendUntilAnswered(client, $"{sender}-{i}{(i % 10 == 9 ? " for teo" : "")}", answered);
                }
            })).ToArray();
            for (int done = 0; done < Faults; done++)
            {
                int before = answered.Count;
                await Eventually.Holds(() => answered.Count > before + 50, "sends are under way", 60);
                await Task.Delay(random.Next(5, 300), TestContext.Current.CancellationToken); // the instant of the fault is what is tested
                var fault = Kinds[(done + seed) % Kinds.Length];
                int owner = await nodes.Owner(), victim = fault is Fault.KillOther or Fault.PauseOther
                    ? (owner + 1 + random.Next(2)) % 3 : owner, witness = Enumerable.Range(0, 3).First(i => i != victim && i != owner);
                var clock = Stopwatch.StartNew();
                var writable = Task.CompletedTask;
                using var by = new RovettClient(nodes[witness].Url, key);
                switch (fault)
                {
                    case Fault.KillOwner or Fault.KillOther:
                        await nodes[victim].Kill();
                        clock.Restart();
                        await Writable(nodes[witness], key, answered, $"after fault {done}");
                        Took(times, fault, clock);
                        await nodes.Begin(victim);
                        break;
                    case Fault.PauseOwner or Fault.PauseOwnerForLong or Fault.PauseOther:
                        nodes[victim].Pause(true);
                        clock.Restart();
                        writable = Writable(nodes[witness], key, answered, $"after fault {done}").ContinueWith(t =>
                        {
                            t.GetAwaiter().GetResult();
                            Took(times, fault, clock);
                        }, TaskScheduler.Default);
                        await Task.Delay(fault == Fault.PauseOwnerForLong ? 12_000 : random.Next(1000, 6000),
                            TestContext.Current.CancellationToken);
                        nodes[victim].Pause(false);
                        await writable;
                        break;
                    case Fault.StopOwner:
                        var ending = nodes[victim].Terminate();
                        await Writable(nodes[witness], key, answered, $"after fault {done}");
                        Took(times, fault, clock);
                        (await ending).ShouldBe(0, nodes[victim].Printed);
                        await nodes.Begin(victim);
                        break;
                    case Fault.RestartDatabase:
                        server.Crash();
                        await Task.Delay(random.Next(5, 3000), TestContext.Current.CancellationToken);
                        server.Start();
                        clock.Restart();
                        await Writable(nodes[witness], key, answered, $"after fault {done}");
                        Took(times, fault, clock);
                        break;
                    case Fault.OldSnapshot:
                        // What was written since then stays in the tables: fences and batches must not become slow by it.
                        old?.Dispose();
                        old = Snapshot(nodes.Database);
                        await Writable(nodes[witness], key, answered, $"after fault {done}");
                        Took(times, fault, clock);
                        break;
                    case Fault.MoveSpace:
                        Took(times, fault, await LongestSend(nodes, witness, key, answered, $"in fault {done}", async () =>
                        {
                            await by.Call(HttpMethod.Post, "/v1/cluster/moves",
                                new JsonObject { ["space"] = "main", ["node"] = nodes.Urls[witness] });
                            await Eventually.Holds(nodes.Owner, o => o == witness, "the space has moved", 20);
                        }));
                        await by.Call(HttpMethod.Post, "/v1/cluster/moves", new JsonObject { ["space"] = "main" });
                        break;
                    default:
                        Took(times, fault, await LongestSend(nodes, witness, key, answered, $"in fault {done}", async () =>
                        {
                            await by.Call(HttpMethod.Post, "/v1/cluster/drains", new JsonObject { ["node"] = nodes.Urls[victim] });
                            await Eventually.Holds(nodes.Owner, o => o != victim, "the space has moved", 20);
                        }));
                        await by.Call(HttpMethod.Post, "/v1/cluster/drains",
                            new JsonObject { ["node"] = nodes.Urls[victim], ["drains"] = false });
                        break;
                }
            }
            nodes.Printed.ShouldNotContain("it was set right", Case.Sensitive, "totals have drifted");
            await sendersStop.CancelAsync();
            await Task.WhenAll(senders);
            await SendUntilAnswered(client, "the last", answered);
            await SendUntilAnswered(client, "the last for teo", answered);
            await Eventually.Holds(() => mara.Has(answered["the last"]) && teo.Has(answered["the last for teo"]),
                "the devices have the last one", 60);
            await stop.CancelAsync();
            await receiving;
            using var reader = PostgresHistory.Read(nodes.Database);
            reader.Check().ShouldBeEmpty($"seed {seed}");
            var history = reader.History(1);
            history.Select(e => e.Position).ShouldBe(Enumerable.Range(1, history.Count).Select(i => (long)i));
            var stored = history.Where(e => e.Id is not null).Select(e => e.Id!.Value.ToString()).ToHashSet();
            stored.Count.ShouldBe(history.Count(e => e.Id is not null));
            answered.Values.Where(id => !stored.Contains(id)).ShouldBeEmpty($"seed {seed}");
            answered.Values.Distinct().Count().ShouldBe(answered.Count);
            foreach (var watch in new[] { mara, teo })
            {
                var meant = history.Where(e => e.Id is not null && e.Addressing == "+" + watch.Address).Select(e => e.Id!.Value.ToString())
                    .ToList();
                watch.Received.Distinct().SequenceEqual(meant).ShouldBeTrue($"seed {seed}: {watch.User} received " +
                    $"{watch.Received.Distinct().Count()} of {meant.Count}, each once at the first time and in the order stored");
                watch.OfOthers.ShouldBe(0);
                using var asked = new HttpRequestMessage(HttpMethod.Get, new Uri(front, "/v1/inbox/totals"));
                asked.Headers.Add("Authorization", "Bearer " + TestTokens.Make(secret, watch.User, watch.Roles));
                using var http = new HttpClient();
                using var totals = await http.SendAsync(asked, TestContext.Current.CancellationToken);
                var unread = JsonNode.Parse(await totals.Content.ReadAsStringAsync(TestContext.Current.CancellationToken))!["unread"];
                ((long)unread!).ShouldBe(meant.Count, "nobody has read any");
            }
            var report = $"{Faults} faults, {answered.Count} answered sends, {stored.Count} stored, seed {seed}; writable again after, " +
                $"s: " +
                string.Join("; ", times.OrderBy(t => t.Key).Select(t => $"{t.Key} {t.Value.Count}×, median {Median(t.Value):0.00}, " +
                $"longest {t.Value.Max():0.00}"));
            TestContext.Current.SendDiagnosticMessage(report);
            if (Environment.GetEnvironmentVariable("ROVETT_NODE_LOG") is { } log)
                await File.WriteAllTextAsync(log, nodes.Printed, TestContext.Current.CancellationToken);
            if (Environment.GetEnvironmentVariable("ROVETT_NODE_REPORT") is { } file) await File.AppendAllTextAsync(file, report + "\n");
        }
        catch (Exception error)
        {
            throw new InvalidOperationException($"seed {seed}: {error.Message}\n{await Said(nodes)}\n{nodes.Printed}", error);
        }
        finally
        {
            await stop.CancelAsync();
            old?.Dispose();
        }
    }

    static NpgsqlConnection Snapshot(string database)
    {
        var connection = new NpgsqlConnection(database + ";Pooling=false");
        connection.Open();
        using var begin = new NpgsqlCommand("BEGIN ISOLATION LEVEL REPEATABLE READ; SELECT count(*) FROM space", connection);
        begin.ExecuteNonQuery();
        return connection;
    }

    /// <summary>The nodes as each of them sees them.</summary>
    static async Task<string> Said(NodeProcesses nodes)
    {
        var said = new List<string>();
        for (int i = 0; i < nodes.Count; i++)
        {
            try
            {
                var node = nodes[i];
                using var client = new RovettClient(node.Url, nodes.Key);
                said.Add($"{node.Url}: {(await client.Call(HttpMethod.Get, "/v1/cluster")).ToJsonString()}");
            }
            catch (Exception error)
            {
                said.Add($"node {i}: {error.Message}");
            }
        }
        return string.Join('\n', said);
    }

    static double Median(List<double> of) => of.Order().ElementAt(of.Count / 2);

    static void Took(Dictionary<Fault, List<double>> times, Fault fault, Stopwatch clock) => Took(times, fault, clock.Elapsed);

    static void Took(Dictionary<Fault, List<double>> times, Fault fault, TimeSpan time)
    {
        if (!times.TryGetValue(fault, out var list)) times[fault] = list = [];
        list.Add(time.TotalSeconds);
    }

    /// <summary>Sends one after the other by a node while something is done, and once after it.</summary>
    /// <returns>How long the slowest was not answered, retries included.</returns>
    static async Task<TimeSpan> LongestSend(NodeProcesses nodes, int by, string key, ConcurrentDictionary<string, string> answered,
        string name, Func<Task> act)
    {
        var (acting, longest) = (act(), TimeSpan.Zero);
        for ((int n, bool isLast) = (0, false); !isLast; n++)
        {
            isLast = acting.IsCompleted;
            var clock = Stopwatch.StartNew();
            await Writable(nodes[by], key, answered, $"{n} {name}");
            if (clock.Elapsed > longest) longest = clock.Elapsed;
        }
        await acting;
        return longest;
    }
}
