using System.Collections.Concurrent;
using System.Diagnostics;
using System.Text.Json.Nodes;
using Rovett.Client;
using Rovett.Testing;
using Rovett.Testing.Servers;
using Shouldly;
using Xunit;

namespace Rovett.Faults;

/// <summary>Many people on two of three nodes, while others are sent something without pause: the node that serves their space dies, and
/// all come back by a node that never saw them. <c>ROVETT_CROWD</c> says how many, <c>ROVETT_NODE_REPORT</c> where a report is
/// added.</summary>
public sealed class NodeCrowdTests
{
    static readonly int People = int.TryParse(Environment.GetEnvironmentVariable("ROVETT_CROWD"), out int number) ? number : 300;
    const int AtOnce = 64;
    static readonly TimeSpan BetweenSends = TimeSpan.FromMilliseconds(20);

    /// <summary>One person's device. It comes back when its connection has ended.</summary>
    sealed class Device(int number, string token, string how)
    {
        string? cursor;

        public volatile string? Has;
        public bool IsOpen { get; private set; }
        public int Connections { get; private set; }

        public async Task Stay(Func<int> port, SemaphoreSlim turn, CancellationToken cancel)
        {
            while (!cancel.IsCancellationRequested)
            {
                IsOpen = false;
                try
                {
                    await turn.WaitAsync(cancel);
                    RawWebSocket? socket = null;
                    try
                    {
                        socket = await RawWebSocket.Connect(port(), $"/v1/live?{how}" + (cursor is null ? "" : $"&after={cursor}"), token);
                        if (socket.Status == 101) cursor = (string?)(await socket.Next("opened"))["cursor"] ?? cursor;
                        else await Task.Delay(50, cancel); // not served yet
                    }
                    finally
                    {
                        turn.Release();
                    }
                    using var one = socket;
                    using var end = cancel.Register(one.Dispose);
                    if (one.Status != 101) continue;
                    IsOpen = true;
                    Connections++;
                    while (await one.Next() is { } message)
                    {
                        if ((string)message["kind"]! == "notification") Has = (string)message["title"]!;
                        cursor = (string?)message["cursor"] ?? cursor;
                    }
                }
                catch (Exception error) when (error is IOException or System.Net.Sockets.SocketException or OperationCanceledException
                    or ObjectDisposedException or TimeoutException)
                {
                    // It comes back.
                }
            }
        }

        public override string ToString() => $"{number}";
    }

    [Theory]
    [InlineData(true)]
    [InlineData(false)]
    public async Task All_who_were_connected_are_live_again_soon_after_their_node_died(bool stays)
    {
        using var server = new PostgresServer();
        using var nodes = new NodeProcesses(3, server.NewDatabase(), Environment.GetEnvironmentVariable("ROVETT_NODE_LOG") ?? "warning")
        {
            Environment = { ["ROVETT_SESSIONS_PER_ADDRESS"] = "0", ["ROVETT_MAX_SEND_WAIT_MS"] = "5000" },
        };
        await nodes.Begin();
        const int owner = 0;
        await nodes.Serves(owner);
        int[] ports = [.. Enumerable.Range(0, 3).Where(i => i != owner).Select(i => nodes[i].Url.Port)];
        using var client = new RovettClient(new Uri($"http://127.0.0.1:{ports[0]}"), nodes.Key);
        using var stop = new CancellationTokenSource();
        using var turn = new SemaphoreSlim(AtOnce);
        var devices = Enumerable.Range(0, People).Select(i => new Device(i, TestTokens.Make(nodes.SigningSecret, $"hand-{i}",
            ["crew"]), stays ? "reopens=true" : "label=device")).ToArray();
        var clock = Stopwatch.StartNew();
        var staying = devices.Select((d, i) => d.Stay(() => ports[i % ports.Length], turn, stop.Token)).ToArray();
        await Eventually.Holds(() => devices.All(d => d.IsOpen), "all are connected", 120);
        var first = clock.Elapsed;
        var busy = new ConcurrentQueue<double>();
        var phase = busy;
        var sending = Task.Run(async () =>
        {
            for (int i = 0; !stop.IsCancellationRequested; i++)
            {
                long began = Stopwatch.GetTimestamp();
                await Send(client, "user:mara", $"{i}");
                phase.Enqueue(Stopwatch.GetElapsedTime(began).TotalMilliseconds);
                await Task.Delay(BetweenSends);
            }
        });
        await Send(client, "role:crew", "before");
        await Eventually.Holds(() => devices.All(d => d.Has == "before"), "all have what was sent before", 60);
        await Eventually.Holds(() => phase.Count > 50, "others are sent something", 60);
        const string Term = "SELECT term FROM space_owner WHERE space=1";
        long term = (long)nodes.Ask(Term)!;
        var after = phase = new ConcurrentQueue<double>();
        await nodes[owner].Kill();
        clock.Restart();
        await Send(client, "role:crew", "after");
        var served = clock.Elapsed;
        await Eventually.Holds(() => devices.All(d => d.IsOpen && d.Has == "after"), "all have what was sent after", 120);
        var live = clock.Elapsed;
        nodes.Ask(Term).ShouldBe(term + 1, "it was taken once, and not given to the node that had died");
        await stop.CancelAsync();
        await sending;
        await Task.WhenAll(staying);
        nodes.Printed.ShouldNotContain("it was set right");
        if (stays) devices.ShouldAllBe(d => d.Connections == 1);
        var report = $"{People} sessions of people that no node knew, {(stays ? "on connections that stay" : "which come back")}: open after {first.TotalSeconds:0.0} s; their node killed: a send " +
            $"was answered " +
            $"after {served.TotalSeconds:0.00} s, all were connected again and had it after {live.TotalSeconds:0.0} s. One send at a " +
                $"time, meanwhile, ms: " +
            $"median {Percentile(after, 0.5):0.0}, p99 {Percentile(after, 0.99):0.0} of {after.Count}; before: median {Percentile(busy,
                0.5):0.0}, p99 {Percentile(busy, 0.99):0.0}";
        TestContext.Current.SendDiagnosticMessage(report);
        if (Environment.GetEnvironmentVariable("ROVETT_NODE_REPORT") is { } file)
            await File.AppendAllTextAsync(file, report + "\n", TestContext.Current.CancellationToken);
    }

    static double Percentile(IEnumerable<double> of, double p)
    {
        var sorted = of.Order().ToArray();
        return sorted[(int)(sorted.Length * p)];
    }

    static async Task Send(RovettClient client, string to, string title)
    {
        var key = Guid.NewGuid().ToString();
        for (; ; )
        {
            try
            {
                await client.Send(new JsonObject { ["to"] = new JsonArray(to), ["type"] = "t", ["title"] = title }, key);
                return;
            }
            catch (Exception error) when (error is HttpRequestException or RovettRefusedException { Status: 503 or 429 })
            {
                await Task.Delay(10);
            }
        }
    }
}
