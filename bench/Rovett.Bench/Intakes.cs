using System.Diagnostics;
using System.Globalization;
using System.Net.Http.Headers;
using System.Net.Sockets;
using System.Text;
using Confluent.Kafka;
using Npgsql;
using RabbitMQ.Client;
using Rovett.Client;
using Rovett.Service.Intakes.Outbox;
using Rovett.Testing;
using Rovett.Testing.Servers;
using StackExchange.Redis;

namespace Rovett.Bench;

/// <summary>Events with one matching rule that wait at a source, taken by its intake, beside the same events in requests of
/// <c>POST /v1/events</c> over one connection, in turn.</summary>
static class Intakes
{
    const int Count = 20_000, Batch = 500, Pairs = 3;

    const string Rules = """
        rules:
          - name: Engine check due
            event: engine.check.due
            when: { data:/hours: { atLeast: 50 } }
            to: ["user:{{ data.engineer }}"]
            notification: { title: "{{ data.vessel }}: {{ data.check }} check due", link: "/checks/{{ data.id }}" }
        """;

    static readonly string Pad = new('x', 120);
    static int ids;

    /// <summary>An event that nobody has seen.</summary>
    static string Event(int i) => $$$"""
        {"specversion":"1.0","id":"e{{{++ids}}}","source":"/planning/1","subject":"vessel/turnstone","type":"engine.check.due","data":{"id":{{{i}}},"vessel":"Turnstone","check":"bow thruster","hours":52,"engineer":"person{{{i % 1000}}}","pad":"{{{Pad}}}"}}
        """;

    static List<string> Events() => [.. Enumerable.Range(0, Count).Select(Event)];

    /// <param name="only">One of them; null: all.</param>
    public static async Task Run(string? only)
    {
        var folder = Directory.CreateTempSubdirectory("rovett-intakes-").FullName;
        using var postgres = new PostgresServer();
        using var rabbit = new RabbitMqServer();
        using var redis = new RedisServer();
        using var kafka = new KafkaCluster();
        await rabbit.Start();
        await redis.Start();
        var database = postgres.NewDatabase();
        await Sql(database, OutboxSql.Create("rovett_outbox", null));
        int tcp = FreePort.Next();
        var file = Path.Combine(folder, "intakes.yaml");
        await File.WriteAllTextAsync(file, $$"""
            intakes:
              - { name: outbox, batch: {{Batch}}, outbox: { host: 127.0.0.1, port: {{postgres.Port}}, database: store1, user: rovett } }
              - { name: rabbitmq, batch: {{Batch}}, rabbitmq: { url: "amqp://127.0.0.1:{{rabbit.Port}}", queue: crew, declare: true } }
              - { name: redis, batch: {{Batch}}, redis: { server: "127.0.0.1:{{redis.Port}}", streams: [crew] } }
              - { name: kafka, batch: {{Batch}}, kafka: { servers: [{{string.Join(", ", kafka.Servers.Split(',').Select(s => $"\"{s}\""))}}], topics: [crew] } }
              - { name: tcp, batch: {{Batch}}, tcp: { listen: "127.0.0.1:{{tcp}}" } }
            """);
        try
        {
            using var service = await ServiceProcess.Start(folder, ["--intakes", file]);
            var key = (string)service.Ready["credentials"]!["adminKey"]!;
            using var client = new RovettClient(service.Url, key);
            await client.Call(HttpMethod.Put, "/v1/rules", () => new StringContent(Rules, Encoding.UTF8, "application/yaml"));
            using var http = new HttpClient { BaseAddress = service.Url };
            http.DefaultRequestHeaders.Authorization = new AuthenticationHeaderValue("Bearer", key);
            for (int i = 0; i < 3; i++) await Requests(http, Events()); // compiled, and the people are known
            foreach (var (name, fill) in new (string, Func<List<string>, Task>)[]
            {
                ("outbox", e => Fill(database, e)), ("rabbitmq", e => Fill(rabbit, e)), ("redis", e => Fill(redis, e)), ("kafka", e => Fill(kafka, e)),
            })
            {
                if (only is null || only == name) await Compare(name, () => Waiting(client, name, fill), http);
            }
            if (only is null or "tcp") await Compare("tcp", () => Lines(tcp, key, Events()), http);
        }
        finally
        {
            Directory.Delete(folder, recursive: true);
        }
    }

    static async Task Compare(string name, Func<Task<double>> intake, HttpClient http)
    {
        await intake();
        var ratios = new List<double>();
        for (int i = 0; i < Pairs; i++)
        {
            double requests = await Requests(http, Events()), taken = await intake();
            ratios.Add(taken / requests);
            Console.WriteLine($"{name}: {taken:N0} events/s, POST /v1/events {requests:N0}, ratio {taken / requests:F2}");
        }
        ratios.Sort();
        Console.WriteLine($"{name}: median {ratios[Pairs / 2]:F2} [{ratios[0]:F2} – {ratios[^1]:F2}]");
    }

    static async Task<double> Requests(HttpClient http, List<string> events)
    {
        var bodies = events.Chunk(Batch).Select(c => Encoding.UTF8.GetBytes(string.Join('\n', c))).ToList();
        long start = Stopwatch.GetTimestamp();
        foreach (var body in bodies)
        {
            using var content = new ByteArrayContent(body);
            content.Headers.ContentType = new MediaTypeHeaderValue("application/x-ndjson");
            using var answer = await http.PostAsync("/v1/events", content);
            answer.EnsureSuccessStatusCode();
            await answer.Content.ReadAsByteArrayAsync();
        }
        return Count / Stopwatch.GetElapsedTime(start).TotalSeconds;
    }

    /// <summary>The events wait at the source when the intake begins.</summary>
    static async Task<double> Waiting(RovettClient client, string name, Func<List<string>, Task> fill)
    {
        async Task<long> Taken() => (long)(await client.Call(HttpMethod.Get, "/v1/intakes/" + name))["events"]!;
        await client.Call(HttpMethod.Post, $"/v1/intakes/{name}/pause");
        await Eventually.Holds(async () => (string)(await client.Call(HttpMethod.Get, "/v1/intakes/" + name))["state"]! == "paused", s => s, "paused");
        await fill(Events());
        long before = await Taken();
        await client.Call(HttpMethod.Post, $"/v1/intakes/{name}/resume");
        // Connecting is not measured: the clock begins with the first batch.
        long first = 0;
        while ((first = await Taken() - before) == 0) await Task.Delay(2);
        long start = Stopwatch.GetTimestamp();
        while (await Taken() - before < Count) await Task.Delay(5);
        return (Count - first) / Stopwatch.GetElapsedTime(start).TotalSeconds;
    }

    static async Task<double> Lines(int port, string key, List<string> events)
    {
        using var socket = new Socket(SocketType.Stream, ProtocolType.Tcp);
        await socket.ConnectAsync("127.0.0.1", port);
        using var reader = new StreamReader(new NetworkStream(socket));
        await socket.SendAsync(Encoding.UTF8.GetBytes(key + "\n"));
        await reader.ReadLineAsync();
        var all = Encoding.UTF8.GetBytes(string.Join('\n', events) + "\n");
        long start = Stopwatch.GetTimestamp();
        var sending = Task.Run(() =>
        {
            for (int sent = 0; sent < all.Length;) sent += socket.Send(all.AsSpan(sent));
        });
        for (int i = 0; i < events.Count; i++) await reader.ReadLineAsync();
        await sending;
        return Count / Stopwatch.GetElapsedTime(start).TotalSeconds;
    }

    static async Task Sql(string database, string sql, params object[] values)
    {
        await using var connection = new NpgsqlConnection(database);
        await connection.OpenAsync();
        await using var command = new NpgsqlCommand(sql, connection);
        foreach (var value in values) command.Parameters.Add(new NpgsqlParameter { Value = value });
        await command.ExecuteNonQueryAsync();
    }

    static Task Fill(string database, List<string> events) =>
        Sql(database, "INSERT INTO rovett_outbox (event) SELECT e::json FROM unnest($1) e", (object)events.ToArray());

    static async Task Fill(RabbitMqServer server, List<string> events)
    {
        await using var connection = await server.Factory.CreateConnectionAsync();
        await using var channel = await connection.CreateChannelAsync(new CreateChannelOptions(true, true));
        var properties = new BasicProperties { ContentType = "application/cloudevents+json", Persistent = true };
        foreach (var chunk in events.Chunk(Batch))
        {
            await Task.WhenAll(chunk.Select(e => channel.BasicPublishAsync("", "crew", mandatory: true, properties, Encoding.UTF8.GetBytes(e)).AsTask()));
        }
    }

    static async Task Fill(RedisServer server, List<string> events)
    {
        await using var connection = await ConnectionMultiplexer.ConnectAsync(string.Create(CultureInfo.InvariantCulture, $"127.0.0.1:{server.Port}"));
        var streams = connection.GetDatabase();
        foreach (var chunk in events.Chunk(Batch)) await Task.WhenAll(chunk.Select(e => streams.StreamAddAsync("crew", "event", e)));
    }

    static async Task Fill(KafkaCluster cluster, List<string> events)
    {
        using var producer = new ProducerBuilder<string, string>(new ProducerConfig { BootstrapServers = cluster.Servers, LingerMs = 5 }).Build();
        var headers = new Confluent.Kafka.Headers { { "content-type", "application/cloudevents+json"u8.ToArray() } };
        foreach (var (e, i) in events.Select((e, i) => (e, i)))
        {
            producer.Produce("crew", new Message<string, string> { Key = $"k{i % 100}", Value = e, Headers = headers });
        }
        await Task.Run(() => producer.Flush(TimeSpan.FromMinutes(1)));
    }
}
