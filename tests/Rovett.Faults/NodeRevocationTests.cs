using System.Text.Json.Nodes;
using Rovett.Client;
using Rovett.Testing;
using Rovett.Testing.Servers;
using Shouldly;
using Xunit;

namespace Rovett.Faults;

/// <summary>A node is paused while it writes to a session; the user is signed out by the node that takes the space; the first goes on. It
/// must not write anything more to that session. <c>ROVETT_NODE_REVOCATIONS</c> says how often it is tried.</summary>
public sealed class NodeRevocationTests
{
    static readonly int Trials = int.TryParse(Environment.GetEnvironmentVariable("ROVETT_NODE_REVOCATIONS"), out int number) ? number : 2;
    const int Sessions = 40, Floods = 8;

    [Fact]
    public async Task A_node_that_wakes_up_writes_nothing_to_who_was_signed_out_meanwhile()
    {
        using var server = new PostgresServer();
        var database = server.NewDatabase();
        var folder = Directory.CreateTempSubdirectory("rovett-revoked-").FullName;
        var secretFile = Path.Combine(folder, "cluster-secret");
        await File.WriteAllTextAsync(secretFile, new string('s', 40), TestContext.Current.CancellationToken);
        var urls = Enumerable.Range(0, 2).Select(_ => $"http://127.0.0.1:{FreePort.Next()}").ToArray();
        var nodes = new List<ServiceProcess>();
        int received = 0, after = 0;
        try
        {
            foreach (var url in urls)
            {
                nodes.Add(await ServiceProcess.Start(Directory.CreateDirectory(Path.Combine(folder, $"{nodes.Count}")).FullName,
                    ["--database", database, "--node-url", url, "--cluster-secret-file", secretFile], log: "error"));
            }
            var (key, secret) = ((string)nodes[0].Ready["credentials"]!["adminKey"]!,
                (string)nodes[0].Ready["credentials"]!["tokenSigningSecret"]!);
            for (int trial = 0; trial < Trials; trial++)
            {
                int owner = await Owner(nodes, urls, key);
                using var client = new RovettClient(nodes[owner].Url, key);
                using var other = new RovettClient(nodes[1 - owner].Url, key);
                var user = $"teo-{trial}";
                var sockets = new List<RawWebSocket>();
                for (int i = 0; i < Sessions; i++)
                {
                    sockets.Add(await RawWebSocket.Connect(nodes[owner].Url.Port, "/v1/live", TestTokens.Make(secret, user)));
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
                nodes[owner].Pause(true);
                await stop.CancelAsync();
                await SignOut(other, user);
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
                nodes[owner].Pause(false);
                for (int i = 0; i < Sessions; i++)
                {
                    while (await reading[i] is { } message)
                    {
                        if ((string)message["kind"]! == "notification") after++;
                        reading[i] = sockets[i].Next();
                    }
                    sockets[i].Dispose();
                }
                await Task.WhenAll(floods);
            }
            TestContext.Current.SendDiagnosticMessage($"{Trials} trials, {received} messages before the sign-outs, {after} after");
            after.ShouldBe(0, "written after the sign-out was answered");
            if (Environment.GetEnvironmentVariable("ROVETT_NODE_REPORT") is { } file)
                await File.AppendAllTextAsync(file, $"revocations: {Trials} trials, {received} messages before, none after\n");
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
