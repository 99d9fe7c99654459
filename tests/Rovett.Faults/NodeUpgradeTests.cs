using System.Collections.Concurrent;
using System.Diagnostics;
using Rovett.Client;
using Rovett.Storage.Postgres;
using Rovett.Testing;
using Rovett.Testing.Servers;
using Shouldly;
using Xunit;
using static Rovett.Faults.AnsweredSends;

namespace Rovett.Faults;

/// <summary>Three nodes under load are stopped and started one after the other. <c>ROVETT_OLD_BUILD</c> names the folder of an earlier
/// build, which they begin with; without it they begin with this one. <c>ROVETT_NODE_REPORT</c> says where a report is added.</summary>
public sealed class NodeUpgradeTests
{
    const int Senders = 4;

    [Fact]
    public async Task Nodes_that_are_renewed_one_after_the_other_lose_nothing()
    {
        using var server = new PostgresServer();
        using var nodes = new NodeProcesses(3, server.NewDatabase(), "warning");
        await nodes.Begin(Environment.GetEnvironmentVariable("ROVETT_OLD_BUILD"));
        using var client = new RovettClient(nodes.Front.Url, nodes.Key);
        var answered = new ConcurrentDictionary<string, string>();
        var (mara, teo) = (new Watch("mara", ["engineer"]), new Watch("teo", ["crew"]));
        using var stop = new CancellationTokenSource();
        var receiving = Task.WhenAll(mara.Receive(nodes.Front.Url, nodes.SigningSecret, stop.Token),
            teo.Receive(nodes.Front.Url, nodes.SigningSecret, stop.Token));
        using var enough = new CancellationTokenSource();
        double longest = 0;
        var sending = Enumerable.Range(0, Senders).Select(sender => Task.Run(async () =>
        {
            double own = 0;
            for (int i = 0; !enough.IsCancellationRequested; i++)
            {
                var clock = Stopwatch.StartNew();
                await SendUntilAnswered(client, $"{sender}-{i}{(i % 10 == 9 ? " for teo" : "")}", answered);
                own = Math.Max(own, clock.Elapsed.TotalSeconds);
            }
            lock (answered) longest = Math.Max(longest, own);
        })).ToArray();
        async Task More(string when)
        {
            int before = answered.Count;
            await Eventually.Holds(() => answered.Count > before + 300, $"sends go on {when}", 60);
        }
        await More("with the nodes they began with");
        for (int i = 0; i < nodes.Count; i++)
        {
            (await nodes[i].Terminate()).ShouldBe(0, nodes[i].Printed);
            await More($"without node {i}");
            await nodes.Begin(i);
            await More($"with node {i} renewed");
        }
        await enough.CancelAsync();
        await Task.WhenAll(sending);
        await SendUntilAnswered(client, "the last", answered);
        await SendUntilAnswered(client, "the last for teo", answered);
        await Eventually.Holds(() => mara.Has(answered["the last"]) && teo.Has(answered["the last for teo"]),
            "the devices have the last", 60);
        await stop.CancelAsync();
        await receiving;
        using var reader = PostgresHistory.Read(nodes.Database);
        reader.Check().ShouldBeEmpty();
        var history = reader.History(1).Where(e => e.Id is not null).ToList();
        var stored = history.ConvertAll(e => e.Id!.Value.ToString());
        stored.Distinct().Count().ShouldBe(stored.Count);
        answered.Values.Except(stored).ShouldBeEmpty("each answered send is stored");
        foreach (var watch in new[] { mara, teo })
        {
            watch.Received.Distinct().ShouldBe(history.Where(e => e.Addressing == "+" + watch.Address).Select(e => e.Id!.Value.ToString()));
            watch.OfOthers.ShouldBe(0);
        }
        var report = $"three nodes renewed one after the other: {answered.Count} answered sends, longest {longest:0.00} s";
        TestContext.Current.SendDiagnosticMessage(report);
        if (Environment.GetEnvironmentVariable("ROVETT_NODE_REPORT") is { } file)
            await File.AppendAllTextAsync(file, report + "\n", TestContext.Current.CancellationToken);
    }
}
