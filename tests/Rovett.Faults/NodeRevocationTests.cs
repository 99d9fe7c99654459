using System.Diagnostics;
using System.Text.Json.Nodes;
using Rovett.Client;
using Rovett.Testing;
using Rovett.Testing.Servers;
using Shouldly;
using Xunit;

namespace Rovett.Faults;

/// <summary>A node is paused while it writes to sessions of a user, who is signed out meanwhile: by the node that takes the space, or by
/// the
/// one that serves it while the paused one only holds the sessions. Then it goes on, and must not write anything more to them.
/// <c>ROVETT_NODE_REVOCATIONS</c> and, for sign-outs without a pause, <c>ROVETT_NODE_SIGN_OUTS</c> say how often it is tried.</summary>
public sealed class NodeRevocationTests
{
    static readonly int Trials = int.TryParse(Environment.GetEnvironmentVariable("ROVETT_NODE_REVOCATIONS"), out int number) ? number : 2;
    static readonly int SignOuts = int.TryParse(Environment.GetEnvironmentVariable("ROVETT_NODE_SIGN_OUTS"), out int number) ? number : 20;
    const int Sessions = 40, Floods = 8, MostAttempts = 100;

    [Theory]
    [InlineData(true)]
    [InlineData(false)]
    public async Task A_node_that_wakes_up_writes_nothing_to_who_was_signed_out_meanwhile(bool servesTheSpace)
    {
        using var server = new PostgresServer();
        using var nodes = await new NodeProcesses(2, server.NewDatabase()).Begin();
        int received = 0, after = 0, moved = 0;
        var waits = new List<double>();
        await nodes.Serves(0);
        for (int trial = 0; trial < Trials; trial++)
        {
            if (!servesTheSpace) await Eventually.Holds(nodes.Owner, o => o == 0, "the space is where it is wanted", 30);
            int owner = await nodes.Owner(), paused = servesTheSpace ? owner : 1 - owner;
            using var client = new RovettClient(nodes[owner].Url, nodes.Key);
            using var other = new RovettClient(nodes[1 - paused].Url, nodes.Key);
            var user = $"teo-{trial}";
            var sockets = new List<RawWebSocket>();
            for (int i = 0; i < Sessions; i++) sockets.Add(await Open(nodes, paused, user));
            if (await nodes.Owner() != owner)
            {
                // The node that woke up was given the space back meanwhile: once more.
                sockets.ForEach(s => s.Dispose());
                (++moved).ShouldBeLessThan(Trials * 5, "the space comes to rest");
                trial--;
                continue;
            }
            using var stop = new CancellationTokenSource();
            var floods = Enumerable.Range(0, Floods).Select(_ => Task.Run(async () =>
            {
                try
                {
                    while (!stop.IsCancellationRequested) await Send(client, user);
                }
                catch (Exception error) when (error is HttpRequestException or RovettRefusedException)
                {
                    // The node was paused and has lost the space.
                }
            })).ToArray();
            await sockets[^1].Next("notification");
            nodes[paused].Pause(true);
            if (servesTheSpace) await stop.CancelAsync();
            var clock = Stopwatch.StartNew();
            await SignOut(other, user);
            waits.Add(clock.Elapsed.TotalSeconds);
            await stop.CancelAsync();
            // Whatever the node gave to the kernel before it was paused arrives without it.
            var reading = sockets.ConvertAll(s => s.Next());
            for (int i = 0; i < Sessions; i++)
            {
                while (await Task.WhenAny(reading[i], Task.Delay(100)) == reading[i] && await reading[i] is not null)
                {
                    received++;
                    reading[i] = sockets[i].Next();
                }
            }
            nodes[paused].Pause(false);
            for (int i = 0; i < Sessions; i++)
            {
                bool some = false;
                while (await reading[i] is { } message)
                {
                    some |= (string)message["kind"]! == "notification";
                    reading[i] = sockets[i].Next();
                }
                if (some) after++;
                sockets[i].Dispose();
            }
            await Task.WhenAll(floods);
        }
        TestContext.Current.SendDiagnosticMessage($"{Trials} trials, {received} messages before the sign-outs, {after} sessions after");
        // A thread that was paused after its look at the lease still writes: at most one for each processor.
        after.ShouldBeLessThanOrEqualTo(Trials * Environment.ProcessorCount, "sessions written to after the sign-out was answered");
        if (Environment.GetEnvironmentVariable("ROVETT_NODE_REPORT") is { } file)
            await File.AppendAllTextAsync(file, $"revocations while the node that {(servesTheSpace ? "serves the space"
                : "holds the sessions")} is paused: " +
                $"{Trials} trials, {received} messages before, {after} sessions after; answered after " +
                    $"{waits.Order().ElementAt(waits.Count / 2):0.00} " +
                $"(median), {waits.Max():0.00} s (longest)\n");
    }

    /// <summary>Sessions of a user at both nodes are written to without pause when the user is signed out by one of the nodes.</summary>
    [Fact]
    public async Task Nothing_is_written_to_a_session_anywhere_once_a_sign_out_is_answered()
    {
        using var server = new PostgresServer();
        using var nodes = await new NodeProcesses(2, server.NewDatabase()).Begin();
        await nodes.Serves(0);
        using var client = new RovettClient(nodes[0].Url, nodes.Key);
        RovettClient[] by = [new(nodes[0].Url, nodes.Key), new(nodes[1].Url, nodes.Key)];
        var waits = new List<double>();
        int before = 0, after = 0;
        for (int trial = 0; trial < SignOuts; trial++)
        {
            var user = $"teo-{trial}";
            var sockets = new List<RawWebSocket>();
            for (int i = 0; i < 4; i++)
            {
                sockets.Add(await RawWebSocket.Connect(nodes[i % 2].Url.Port, "/v1/live", TestTokens.Make(nodes.SigningSecret, user)));
                await sockets[i].Next("opened");
            }
            using var stop = new CancellationTokenSource();
            var floods = Enumerable.Range(0, 4).Select(_ => Task.Run(async () =>
            {
                while (!stop.IsCancellationRequested) await Send(client, user);
            })).ToArray();
            foreach (var socket in sockets) await socket.Next("notification");
            var clock = Stopwatch.StartNew();
            await SignOut(by[trial % 2], user);
            waits.Add(clock.Elapsed.TotalMilliseconds);
            long[] come = [.. sockets.Select(s => s.Come)]; // what is written later comes behind this
            for (int i = 0; i < sockets.Count; i++)
            {
                using var socket = sockets[i];
                while (await socket.Next() is { } message)
                {
                    if ((string)message["kind"]! != "notification") continue;
                    if (socket.Taken <= come[i]) before++;
                    else after++;
                }
            }
            await stop.CancelAsync();
            await Task.WhenAll(floods);
        }
        foreach (var one in by) one.Dispose();
        before.ShouldBeGreaterThan(SignOuts, "they were written to until then");
        after.ShouldBe(0, "notifications that were written after the answer");
        if (Environment.GetEnvironmentVariable("ROVETT_NODE_REPORT") is { } file)
            await File.AppendAllTextAsync(file, $"sign-outs beside a flood, two nodes: {SignOuts} trials, {before} notifications " +
                $"waited to be read when they were answered, " +
                $"{after} were written after; answered after {waits.Order().ElementAt(waits.Count / 2):0.0} (median), " +
                    $"{waits.Max():0.0} ms (longest)\n",
                TestContext.Current.CancellationToken);
    }

    /// <summary>Opens a session as clients do: where it is refused or ends because the space moves just then, it is tried again.</summary>
    static async Task<RawWebSocket> Open(NodeProcesses nodes, int at, string user)
    {
        for (int attempt = 0; ; attempt++)
        {
            var socket = await RawWebSocket.Connect(nodes[at].Url.Port, "/v1/live", TestTokens.Make(nodes.SigningSecret, user));
            try
            {
                if (socket.Status == 101 || attempt >= MostAttempts)
                {
                    await socket.Next("opened");
                    return socket;
                }
                socket.Status.ShouldBe(503);
            }
            catch (IOException) when (attempt < MostAttempts)
            {
                // It has ended.
            }
            socket.Dispose();
            await Task.Delay(100);
        }
    }

    static async Task SignOut(RovettClient client, string user)
    {
        for (; ; )
        {
            try
            {
                await client.Call(HttpMethod.Post, $"/v1/users/{user}/sign-out");
                return;
            }
            catch (RovettRefusedException error) when (error.Status == 503)
            {
                await Task.Delay(50);
            }
        }
    }

    static Task Send(RovettClient client, string user) => client.Send(new JsonObject
    {
        ["to"] = new JsonArray($"user:{user}"),
        ["type"] = "t",
        ["title"] = "Something happened",
    });
}
