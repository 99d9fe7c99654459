using System.Diagnostics;
using System.Net.Http.Headers;
using System.Text;
using System.Text.Json.Nodes;
using Npgsql;
using Rovett.Testing;
using Rovett.Testing.Servers;

namespace Rovett.Bench;

/// <summary>What it costs that a request reaches a node that does not serve its space, and what a send costs PostgreSQL.</summary>
static class NodesBench
{
    const int Rounds = 6, Warm = 300, Each = 400, AtOnce = 32, FanOutRounds = 3;
    static readonly int[] FanOuts = [1, 1000, 3000];
    static readonly TimeSpan Length = TimeSpan.FromSeconds(5);

    public static async Task Run()
    {
        using var server = PostgresServer.Lasting();
        var database = server.NewDatabase();
        var folder = Directory.CreateTempSubdirectory("rovett-nodes-").FullName;
        var secret = Path.Combine(folder, "secret");
        await File.WriteAllTextAsync(secret, new string('s', 40));
        var nodes = new List<ServiceProcess>();
        try
        {
            var urls = Enumerable.Range(0, 2).Select(_ => $"https://127.0.0.1:{FreePort.Next()}").ToArray();
            foreach (var url in urls)
            {
                nodes.Add(await ServiceProcess.Start(Directory.CreateDirectory(Path.Combine(folder, $"{nodes.Count}")).FullName,
                    ["--database", database, "--node-url", url, "--cluster-secret-file", secret],
                    // what else runs here must not refuse it
                    new Dictionary<string, string> { ["ROVETT_MAX_SEND_WAIT_MS"] = "5000", ["ROVETT_SESSIONS_PER_ADDRESS"] = "0" }));
            }
            var key = (string)nodes[0].Ready["credentials"]!["adminKey"]!;
            int owner = await Owner(nodes[0], key, urls);
            var (near, far) = (nodes[owner], nodes[1 - owner]);
            foreach (var node in nodes) await One(node, key, Warm);
            var (direct, passed) = (new List<double>(), new List<double>());
            for (int round = 0; round < Rounds; round++)
            {
                direct.Add(Percentile(await One(near, key, Each), 0.5));
                passed.Add(Percentile(await One(far, key, Each), 0.5));
            }
            Console.WriteLine($"one send after the other, p50 in ms, by the node that serves the space: {Listed(direct)}; by the other: " +
                $"{Listed(passed)}; differences {Listed(direct.Zip(passed, (a, b) => b - a))}");
            var token = (string)nodes[0].Ready["credentials"]!["tokenSigningSecret"]!;
            for (int round = 0; round < FanOutRounds; round++)
            {
                foreach (int sessions in FanOuts)
                {
                    await FanOut(near, near, near, sessions, key, token);
                    await FanOut(far, near, far, sessions, key, token);
                }
            }
            foreach (var (name, node) in new[] { ("the node that serves the space", near), ("the other", far),
                ("the node that serves the space", near), ("the other", far) })
            {
                var (cpuNear, cpuFar, wal) = (near.Cpu.TotalSeconds, far.Cpu.TotalSeconds, Wal(database));
                int sent = await Many(node, key);
                Console.WriteLine($"{AtOnce} at a time by {name}: {sent / Length.TotalSeconds:0} sends/s; processor time a send: serving " +
                    $"{(near.Cpu.TotalSeconds - cpuNear) / sent * 1e6:0} µs, passing on {(far.Cpu.TotalSeconds - cpuFar) / sent * 1e6:0} µs; " +
                    $"{(Wal(database) - wal) / sent:0} bytes of PostgreSQL's log a send");
            }
        }
        finally
        {
            foreach (var node in nodes) node.Dispose();
            Directory.Delete(folder, recursive: true);
        }
    }

    static int fanOuts;

    /// <summary>Sends to a role whose sessions are all at one node.</summary>
    static async Task FanOut(ServiceProcess holder, ServiceProcess near, ServiceProcess far, int sessions, string key, string secret)
    {
        double serving = 0, holding = 0;
        int run = ++fanOuts; // users of its own, who have missed nothing
        long sends = 0;
        var load = new Load(holder.Url, webSocket: true, sessions,
            i => $"GET /v1/live HTTP/1.1\r\nHost: 127.0.0.1\r\nUpgrade: websocket\r\nConnection: Upgrade\r\nSec-WebSocket-Version: 13\r\n" +
                "Sec-WebSocket-Key: dGhlIHNhbXBsZSBub25jZQ==\r\nSec-WebSocket-Protocol: rovett.v1\r\nAuthorization: Bearer " +
                $"{TestTokens.Make(secret, $"hand-{run}-{i}", [$"engineer-{run}"])}\r\n\r\n",
            "/v1/notifications", $$"""{"to":["role:engineer-{{run}}"],"type":"engine.check.due","title":"Turnstone: pump check due"}""", key,
            acks: true)
        {
            WaitsUntilOpen = true,
            SendsTo = near.Url,
            Rests = TimeSpan.FromMilliseconds(500), // a client that waits as fast as it can would leave no processor to the nodes
            Counts = (begins, sent) =>
            {
                int sign = begins ? -1 : 1;
                (serving, holding, sends) = (serving + (sign * near.Cpu.TotalSeconds), holding + (sign * far.Cpu.TotalSeconds), sends + (sign * sent));
            },
        };
        var reading = await load.Run();
        double deliveries = reading.PerSecond * Load.Measured.TotalSeconds;
        Console.WriteLine(near == far
            ? $"{sessions} sessions at the node that serves, open after {load.OpenedAfter.TotalSeconds:0.0} s: {reading.PerSecond:0} " +
                $"deliveries/s; {serving / deliveries * 1e6:0.00} µs of processor time a delivery"
            : $"{sessions} sessions at the other node, open after {load.OpenedAfter.TotalSeconds:0.0} s: {reading.PerSecond:0} " +
                $"deliveries/s; serving {serving / sends * 1e6:0} µs a send, holding " +
                $"{holding / deliveries * 1e6:0.00} µs a delivery, both {(serving + holding) / deliveries * 1e6:0.00} µs a delivery");
    }

    static string Listed(IEnumerable<double> values) => string.Join(", ", values.Select(v => v.ToString("0.00")));

    static double Percentile(List<double> of, double p) => of.Order().ElementAt((int)(of.Count * p));

    static double Wal(string database)
    {
        using var connection = new NpgsqlConnection(database + ";Pooling=false");
        connection.Open();
        using var ask = new NpgsqlCommand("SELECT pg_wal_lsn_diff(pg_current_wal_lsn(), '0/0')::float8", connection);
        return (double)ask.ExecuteScalar()!;
    }

    static async Task<int> Owner(ServiceProcess node, string key, string[] urls)
    {
        using var http = Client(node, key);
        for (; ; )
        {
            var cluster = JsonNode.Parse(await http.GetStringAsync("/v1/cluster"))!;
            int owner = Array.IndexOf(urls, (string?)cluster["spaces"]![0]!["node"]);
            if (owner >= 0 && cluster["nodes"]!.AsArray().Count == urls.Length)
            {
                // It does not move while it is used.
                using var stay = new StringContent($$"""{"space":"main","node":"{{urls[owner]}}"}""", Encoding.UTF8, "application/json");
                using var answer = await http.PostAsync("/v1/cluster/moves", stay);
                answer.EnsureSuccessStatusCode();
                return owner;
            }
            await Task.Delay(100);
        }
    }

    static HttpClient Client(ServiceProcess node, string key) => new(new SocketsHttpHandler { UseProxy = false })
    { BaseAddress = node.Url, DefaultRequestHeaders = { Authorization = new AuthenticationHeaderValue("Bearer", key) } };

    static async Task Send(HttpClient http, int n)
    {
        using var body = new StringContent($$"""{"to":["user:hand-{{n % 500}}"],"type":"engine.check.due","title":"Turnstone: pump check due"}""",
            Encoding.UTF8, "application/json");
        using var answer = await http.PostAsync("/v1/notifications", body);
        answer.EnsureSuccessStatusCode();
    }

    static async Task<List<double>> One(ServiceProcess node, string key, int count)
    {
        using var http = Client(node, key);
        var times = new List<double>();
        for (int i = 0; i < count; i++)
        {
            long began = Stopwatch.GetTimestamp();
            await Send(http, i);
            times.Add(Stopwatch.GetElapsedTime(began).TotalMilliseconds);
        }
        return times;
    }

    static async Task<int> Many(ServiceProcess node, string key)
    {
        using var http = Client(node, key);
        int sent = 0;
        long began = Stopwatch.GetTimestamp();
        await Task.WhenAll(Enumerable.Range(0, AtOnce).Select(async sender =>
        {
            for (int i = 0; Stopwatch.GetElapsedTime(began) < Length; i++)
            {
                await Send(http, (sender * 1000) + i);
                Interlocked.Increment(ref sent);
            }
        }));
        return sent;
    }
}
