using System.Net.Sockets;
using System.Text;
using System.Text.Json.Nodes;
using Confluent.Kafka;
using Npgsql;
using RabbitMQ.Client;
using Rovett.Service.Intakes.Outbox;
using Rovett.Testing;
using Rovett.Testing.Servers;
using StackExchange.Redis;

namespace Rovett.Faults.Intakes;

/// <summary>A source of events that a test writes to, and that it kills and cuts off.</summary>
abstract class SourceGround : IAsyncDisposable
{
    /// <summary>The source's part of the file of intakes.</summary>
    public abstract string Settings { get; }

    /// <summary>Gives an event to the source; throws when it is not sure that the source has it.</summary>
    public abstract Task Publish(string json, string key);

    /// <summary>Cuts the connection between the service and the source.</summary>
    public abstract Task Cut();

    /// <summary>Kills the source, and starts it again.</summary>
    public virtual Task Restart() => Cut();

    public abstract ValueTask DisposeAsync();
}

/// <summary>A source behind a relay that can be cut.</summary>
abstract class RelayedGround(int port) : SourceGround
{
    /// <summary>Where the service reaches it.</summary>
    protected Relay Relay { get; } = new(port);

    public override Task Cut()
    {
        Relay.Cut();
        return Task.CompletedTask;
    }

    public override ValueTask DisposeAsync()
    {
        Relay.Dispose();
        return default;
    }
}

/// <summary>A source that is a server of the test's own.</summary>
abstract class ServerGround<T>(T server) : RelayedGround(server.Port) where T : ChildServer
{
    protected T Server => server;

    /// <summary>Starts a server.</summary>
    protected static T Started(T server)
    {
        server.Start().GetAwaiter().GetResult();
        return server;
    }

    public override async Task Restart()
    {
        await server.Kill();
        await server.Start();
    }

    public override async ValueTask DisposeAsync()
    {
        await base.DisposeAsync();
        server.Dispose();
    }
}

sealed class OutboxGround : RelayedGround
{
    readonly PostgresServer server;
    readonly string database;
    NpgsqlConnection? connection;

    public OutboxGround() : this(new PostgresServer()) { }

    OutboxGround(PostgresServer server) : base(server.Port)
    {
        this.server = server;
        database = server.NewDatabase() + ";Pooling=false;Timeout=5;Command Timeout=5";
        using var made = new NpgsqlConnection(database);
        made.Open();
        using var create = new NpgsqlCommand(OutboxSql.Create(OutboxKind.DefaultTable, null), made);
        create.ExecuteNonQuery();
    }

    public override string Settings => $"outbox: {{ host: 127.0.0.1, port: {Relay.Url.Port}, database: " +
        $"{new NpgsqlConnectionStringBuilder(database).Database}, user: rovett }}";

    public override async Task Publish(string json, string key)
    {
        try
        {
            if (connection is null) await (connection = new NpgsqlConnection(database)).OpenAsync();
            await using var insert = new NpgsqlCommand("INSERT INTO rovett_outbox (event) VALUES ($1::json)", connection);
            insert.Parameters.Add(new NpgsqlParameter { Value = json });
            await insert.ExecuteNonQueryAsync();
        }
        catch
        {
            if (connection is not null) await connection.DisposeAsync();
            connection = null;
            throw;
        }
    }

    public override Task Restart()
    {
        server.Crash();
        server.Start();
        return Task.CompletedTask;
    }

    public override async ValueTask DisposeAsync()
    {
        if (connection is not null) await connection.DisposeAsync();
        await base.DisposeAsync();
        server.Dispose();
    }
}

sealed class RabbitMqGround() : ServerGround<RabbitMqServer>(Settled())
{
    IConnection? connection;
    IChannel? channel;

    /// <summary>A broker that was stopped in order once: one that is killed soon after its first start forgets queues that it said it had
    /// declared, and the messages in them that it had confirmed.</summary>
    static RabbitMqServer Settled()
    {
        var server = Started(new RabbitMqServer());
        Settle(server).GetAwaiter().GetResult();
        return server;
    }

    static async Task Settle(RabbitMqServer server)
    {
        await using (var connection = await server.Factory.CreateConnectionAsync())
        await using (var channel = await connection.CreateChannelAsync())
        {
            await channel.QueueDeclareAsync("crew", durable: true, exclusive: false, autoDelete: false);
        }
        await server.Stop();
        await server.Start();
    }

    public override string Settings => $"rabbitmq: {{ url: \"amqp://127.0.0.1:{Relay.Url.Port}\", queue: crew, declare: true }}";

    public override async Task Publish(string json, string key)
    {
        try
        {
            if (channel is null)
            {
                connection = await Server.Factory.CreateConnectionAsync();
                channel = await connection.CreateChannelAsync(new CreateChannelOptions(true, true));
                await channel.QueueDeclareAsync("crew", durable: true, exclusive: false, autoDelete: false);
            }
            // Returns once the broker has confirmed it.
            await channel.BasicPublishAsync("", "crew", mandatory: true,
                new BasicProperties { ContentType = "application/cloudevents+json", Persistent = true }, Encoding.UTF8.GetBytes(json));
        }
        catch
        {
            if (connection is not null) await connection.DisposeAsync();
            (connection, channel) = (null, null);
            throw;
        }
    }

    public override async ValueTask DisposeAsync()
    {
        if (connection is not null) await connection.DisposeAsync();
        await base.DisposeAsync();
    }
}

sealed class RedisGround() : ServerGround<RedisServer>(Started(new RedisServer()))
{
    ConnectionMultiplexer? redis;

    public override string Settings => $"redis: {{ server: \"127.0.0.1:{Relay.Url.Port}\", streams: [crew] }}";

    public override async Task Publish(string json, string key)
    {
        try
        {
            redis ??= await ConnectionMultiplexer.ConnectAsync($"127.0.0.1:{Server.Port},connectTimeout=2000,abortConnect=true");
            await redis.GetDatabase().StreamAddAsync("crew", "event", json);
        }
        catch
        {
            if (redis is not null) await redis.DisposeAsync();
            redis = null;
            throw;
        }
    }

    public override async ValueTask DisposeAsync()
    {
        if (redis is not null) await redis.DisposeAsync();
        await base.DisposeAsync();
    }
}

/// <summary>Brokers played by the client library: what can be shaken is who reads which partition.</summary>
sealed class KafkaGround : SourceGround
{
    readonly KafkaCluster cluster = new();
    readonly IProducer<string, string> producer;

    public KafkaGround() => producer = new ProducerBuilder<string, string>(new ProducerConfig
    { BootstrapServers = cluster.Servers, EnableIdempotence = true, LingerMs = 0 }).SetLogHandler((_, _) => { }).Build();

    public override string Settings => $"kafka: {{ servers: [{string.Join(", ", cluster.Servers.Split(',').Select(s => $"\"{s}\""))}], topics: [crew] }}";

    public override Task Publish(string json, string key) => producer.ProduceAsync("crew", new Message<string, string>
    {
        Key = key,
        Value = json,
        Headers = new Confluent.Kafka.Headers { new Header("content-type", "application/cloudevents+json"u8.ToArray()) },
    });

    /// <summary>Somebody else joins the group, takes partitions, reads and keeps nothing, and leaves.</summary>
    public override async Task Cut()
    {
        using var other = new ConsumerBuilder<string, string>(new ConsumerConfig
        {
            BootstrapServers = cluster.Servers,
            GroupId = "rovett",
            EnableAutoCommit = false,
            PartitionAssignmentStrategy = PartitionAssignmentStrategy.Range,
            SessionTimeoutMs = 6000,
        }).SetLogHandler((_, _) => { }).Build();
        other.Subscribe("crew");
        await Eventually.Holds(() =>
        {
            other.Consume(TimeSpan.FromMilliseconds(50));
            return other.Assignment.Count > 0;
        }, "the other one has partitions", 40);
        other.Close();
    }

    public override ValueTask DisposeAsync()
    {
        producer.Dispose();
        cluster.Dispose();
        return default;
    }
}

/// <summary>Who sends lines keeps each until it is answered.</summary>
sealed class LineSender(Func<Task<Socket>> connect, Func<string?> key) : IDisposable
{
    Socket? socket;
    StreamReader? reader;

    public async Task Send(string json)
    {
        try
        {
            if (socket is null)
            {
                socket = await connect();
                reader = new StreamReader(new NetworkStream(socket));
                if (key() is { } first) await Ask(first);
            }
            var answer = JsonNode.Parse(await Ask(json))!;
            if (answer["notifications"] is null) throw new IOException(answer.ToJsonString());
        }
        catch
        {
            Cut();
            throw;
        }
    }

    async Task<string> Ask(string line)
    {
        await socket!.SendAsync(Encoding.UTF8.GetBytes(line + "\n"));
        using var limit = new CancellationTokenSource(TimeSpan.FromSeconds(10));
        return await reader!.ReadLineAsync(limit.Token) ?? throw new IOException("closed");
    }

    /// <summary>Closes the connection, whatever is under way.</summary>
    public void Cut()
    {
        socket?.Dispose();
        socket = null;
    }

    public void Dispose() => Cut();
}

sealed class TcpGround : RelayedGround
{
    readonly int port;
    readonly LineSender sender;

    public TcpGround() : this(FreePort.Next()) { }

    TcpGround(int port) : base(port)
    {
        this.port = port;
        sender = new LineSender(async () =>
        {
            var socket = new Socket(SocketType.Stream, ProtocolType.Tcp);
            await socket.ConnectAsync(Relay.Url.Host, Relay.Url.Port);
            return socket;
        }, () => Key);
    }

    public string Key { get; set; } = "";

    public override string Settings => $"tcp: {{ listen: \"127.0.0.1:{port}\" }}";

    public override Task Publish(string json, string key) => sender.Send(json);

    public override ValueTask DisposeAsync()
    {
        sender.Dispose();
        return base.DisposeAsync();
    }
}

sealed class UnixGround : SourceGround
{
    readonly string path = Path.Combine(Directory.CreateTempSubdirectory("rovett-lines-").FullName, "lines.sock");
    readonly LineSender sender;

    public UnixGround() => sender = new LineSender(async () =>
    {
        var socket = new Socket(AddressFamily.Unix, SocketType.Stream, ProtocolType.Unspecified);
        await socket.ConnectAsync(new UnixDomainSocketEndPoint(path));
        return socket;
    }, () => null);

    public override string Settings => $"unix: {{ path: {path} }}";

    public override Task Publish(string json, string key) => sender.Send(json);

    public override Task Cut()
    {
        sender.Cut();
        return Task.CompletedTask;
    }

    public override ValueTask DisposeAsync()
    {
        sender.Dispose();
        Directory.Delete(Path.GetDirectoryName(path)!, recursive: true);
        return default;
    }
}
