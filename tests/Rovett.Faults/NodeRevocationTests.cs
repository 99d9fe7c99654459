using System.Diagnostics;
using System.Text.Json.Nodes;
using Rovett.Client;
using Rovett.Testing;
using Rovett.Testing.Servers;
using Shouldly;
using Xunit;

namespace Rovett.Faults;

/// <summary>A node is paused while it writes to sessions of a user, who is signed out meanwhile: by the node that takes the space, or by the
/// one that serves it while the paused one only holds the sessions. Then it goes on, and must not write anything more to them. <c>ROVETT_NODE_REVOCATIONS</c> says how often it is tried.</summary>
public sealed class NodeRevocationTests
{
    static readonly int Trials = int.TryParse(Environment.GetEnvironmentVariable("ROVETT_NODE_REVOCATIONS"), out int number) ? number : 2;
    const int Sessions = 40, Floods = 8;

    [Theory]
    [InlineData(true)]
    [InlineData(false)]
    public async Task A_node_that_wakes_up_writes_nothing_to_who_was_signed_out_meanwhile(bool servesTheSpace)
    {
        using var server = new PostgresServer();
        var database = server.NewDatabase();
        var folder = Directory.CreateTempSubdirectory("rovett-revoked-").FullName;
        var secretFile = Path.Combine(folder, "cluster-secret");
        await File.WriteAllTextAsync(secretFile, new string('s', 40), TestContext.Current.CancellationToken);
        var urls = Enumerable.Range(0, 2).Select(_ => $"https://127.0.0.1:{FreePort.Next()}").ToArray();
        var nodes = new List<ServiceProcess>();
        int received = 0, after = 0;
        var waits = new List<double>();
        try
        {
            foreach (var url in urls)
            {
                nodes.Add(await ServiceProcess.Start(Directory.CreateDirectory(Path.Combine(folder, $"{nodes.Count}")).FullName,
                    ["--database", database, "--node-url", url, "--cluster-secret-file", secretFile], log: "error"));
            }
            var (key, secret) = ((string)nodes[0].Ready["credentials"]!["adminKey"]!,
                (string)nodes[0].Ready["credentials"]!["tokenSigningSecret"]!);
            using (var setting = new RovettClient(nodes[0].Url, key))
            {
                await Owner(nodes, urls, key);
                await setting.Call(HttpMethod.Post, "/v1/cluster/moves", new JsonObject { ["space"] = "main", ["node"] = urls[0] });
            }
            for (int trial = 0; trial < Trials; trial++)
            {
                if (!servesTheSpace) await Eventually.Holds(async () => await Owner(nodes, urls, key), o => o == 0, "the space is where it is wanted", 30);
                int owner = await Owner(nodes, urls, key), paused = servesTheSpace ? owner : 1 - owner;
                using var client = new RovettClient(nodes[owner].Url, key);
                using var other = new RovettClient(nodes[1 - paused].Url, key);
                var user = $"teo-{trial}";
                var sockets = new List<RawWebSocket>();
                for (int i = 0; i < Sessions; i++)
                {
                    sockets.Add(await RawWebSocket.Connect(nodes[paused].Url.Port, "/v1/live", TestTokens.Make(secret, user)));
                    await sockets[i].Next("opened");
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
            // A thread that was stopped between its look at the lease and the socket goes on there: at most one for each processor.
            after.ShouldBeLessThanOrEqualTo(Trials * Environment.ProcessorCount, "sessions written to after the sign-out was answered");
            if (Environment.GetEnvironmentVariable("ROVETT_NODE_REPORT") is { } file)
                await File.AppendAllTextAsync(file, $"revocations, the paused node {(servesTheSpace ? "serves" : "holds")}: " +
                    $"{Trials} trials, {received} messages before, {after} sessions after; answered after {waits.Order().ElementAt(waits.Count / 2):0.00} " +
                    $"(median), {waits.Max():0.00} s (longest)\n");
        }
        finally
        {
            foreach (var node in nodes)
            {
                node.Pause(false);
                node.Dispose();
            }
            Directory.Delete(folder, recursive: true);
        }
    }

    static async Task<int> Owner(List<ServiceProcess> nodes, string[] urls, string key)
    {
        int found = -1;
        await Eventually.Holds(async () =>
        {
            using var client = new RovettClient(nodes[0].Url, key);
            var cluster = await client.Call(HttpMethod.Get, "/v1/cluster");
            found = Array.IndexOf(urls, (string?)cluster["spaces"]![0]!["node"]);
            return found >= 0 && cluster["nodes"]!.AsArray().All(n => (string)n!["state"]! == "serving");
        }, holds => holds, "a node serves the space");
        return found;
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
