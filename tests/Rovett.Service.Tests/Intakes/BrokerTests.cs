using System.Text;
using RabbitMQ.Client;
using Rovett.Testing;
using Rovett.Testing.Servers;
using Shouldly;
using StackExchange.Redis;
using Xunit;

namespace Rovett.Service.Tests.Intakes;

/// <summary>A RabbitMQ broker for all tests of a class.</summary>
public sealed class RabbitMqFixture : IAsyncLifetime
{
    public RabbitMqServer Server { get; } = new();

    public async ValueTask InitializeAsync() => await Server.Start();

    public ValueTask DisposeAsync()
    {
        Server.Dispose();
        return default;
    }
}

/// <summary>Events out of a queue.</summary>
public sealed class RabbitMqTests(RabbitMqFixture broker) : IClassFixture<RabbitMqFixture>, IAsyncLifetime
{
    readonly string queue = "crew-" + Guid.NewGuid().ToString("N")[..8];
    IConnection connection = null!;
    IChannel channel = null!;

    public async ValueTask InitializeAsync()
    {
        connection = await broker.Server.Factory.CreateConnectionAsync();
        channel = await connection.CreateChannelAsync();
    }

    public async ValueTask DisposeAsync() => await connection.DisposeAsync();

    string File(string more = "") => $$"""
        intakes:
          - name: crew
            rabbitmq: { url: "amqp://127.0.0.1:{{broker.Server.Port}}", queue: {{queue}}, declare: true{{more}} }
        """;

    async Task Publish(string body, string? type = "application/cloudevents+json", params (string, object?)[] headers) =>
        await channel.BasicPublishAsync("", queue, mandatory: false, new BasicProperties
        {
            ContentType = type,
            Headers = headers.Length == 0 ? null : headers.ToDictionary(h => h.Item1, h => h.Item2),
        }, Encoding.UTF8.GetBytes(body));

    [Fact]
    public async Task Both_forms_of_the_binding_are_taken_and_what_is_no_event_is_set_aside()
    {
        await using var service = await IntakeGround.Start(File());
        await service.Until("crew", i => (string)i["state"]! == "running", "it reads");
        await Publish(IntakeGround.Event("1", "structured"));
        await Publish("""{"text":"binary"}""", "application/json", ("cloudEvents:specversion", "1.0"), ("cloudEvents:id", "2"),
            ("cloudEvents_source", "/rosters"), ("cloudEvents:type", "engine.check.due"), ("x-other", 7));
        await Publish("rubbish");
        await Publish(IntakeGround.Event("3", "last"));
        (await service.Told(3)).ShouldBe(["structured", "binary", "last"]);
        var item = (await service.Get("/v1/set-aside", service.Key)).Json!["items"]!.AsArray().Single()!;
        ((string)item["kind"]!, (string)item["detail"]!["text"]!).ShouldBe(("intake", "rubbish"));
        await Eventually.Holds(() => channel.MessageCountAsync(queue), n => n == 0, "all is acknowledged");
        var test = (await service.Post("/v1/intakes/crew/test", service.Key, "")).Json!;
        ((bool)test["works"]!, (string)test["found"]![1]!).ShouldBe((true, $"the queue {queue} has 0 messages and 1 reader"));
    }

    [Fact]
    public async Task What_is_no_event_goes_to_the_dead_letter_exchange_where_that_is_wanted()
    {
        var dead = queue + "-dead";
        await channel.QueueDeclareAsync(dead, durable: true, exclusive: false, autoDelete: false);
        await channel.QueueDeclareAsync(queue, durable: true, exclusive: false, autoDelete: false, arguments:
            new Dictionary<string, object?> { ["x-dead-letter-exchange"] = "", ["x-dead-letter-routing-key"] = dead });
        await using var service = await IntakeGround.Start(File(", refused: dead-letter").Replace(", declare: true", ""));
        await Publish("rubbish");
        await Publish(IntakeGround.Event("1", "good"));
        (await service.Told(1)).ShouldBe(["good"]);
        var letter = await Eventually.Holds(() => channel.BasicGetAsync(dead, autoAck: true), l => l is not null, "a dead letter");
        Encoding.UTF8.GetString(letter!.Body.Span).ShouldBe("rubbish");
        ((int)(await service.Get("/v1/set-aside", service.Key)).Json!["count"]!).ShouldBe(0);
    }
}

/// <summary>A Redis for all tests of a class.</summary>
public sealed class RedisFixture : IAsyncLifetime
{
    public RedisServer Server { get; } = new();

    public async ValueTask InitializeAsync() => await Server.Start();

    public ValueTask DisposeAsync()
    {
        Server.Dispose();
        return default;
    }
}

/// <summary>Events out of streams.</summary>
public sealed class RedisTests(RedisFixture redis) : IClassFixture<RedisFixture>, IAsyncLifetime
{
    readonly string stream = "crew-" + Guid.NewGuid().ToString("N")[..8];
    ConnectionMultiplexer connection = null!;

    IDatabase Db => connection.GetDatabase();

    public async ValueTask InitializeAsync() =>
        connection = await ConnectionMultiplexer.ConnectAsync($"127.0.0.1:{redis.Server.Port}");

    public async ValueTask DisposeAsync() => await connection.DisposeAsync();

    string File(string more = "") => $$"""
        intakes:
          - name: crew
            redis: { server: "127.0.0.1:{{redis.Server.Port}}", streams: [{{stream}}]{{more}} }
        """;

    [Fact]
    public async Task Entries_are_taken_whole_or_in_fields_and_go_on_after_a_restart_where_they_were()
    {
        await Db.StreamAddAsync(stream, "event", IntakeGround.Event("1", "whole"));
        await Db.StreamAddAsync(stream, [new("specversion", "1.0"), new("id", "2"), new("source", "/rosters"),
            new("type", "engine.check.due"), new("data", """{"text":"in fields"}""")]);
        await Db.StreamAddAsync(stream, "event", "rubbish");
        await using var service = await IntakeGround.Start(File());
        (await service.Told(2)).ShouldBe(["whole", "in fields"]);
        await service.Until("crew", i => (long)i["setAside"]! == 1, "the rubbish is set aside");
        await service.Service.DisposeAsync();
        await Db.StreamAddAsync(stream, "event", IntakeGround.Event("3", "meanwhile"));
        await service.Restart();
        (await service.Told(3)).ShouldBe(["whole", "in fields", "meanwhile"]);
        var state = await service.Until("crew", i => (long?)i["behind"] == 0, "nothing waits");
        ((long)state["events"]!, (string)state["places"]![0]!["part"]!).ShouldBe((1, stream));
    }

    [Fact]
    public async Task What_was_trimmed_before_it_was_read_is_told()
    {
        await Db.StreamAddAsync(stream, "event", IntakeGround.Event("1", "first"));
        await using var service = await IntakeGround.Start(File());
        (await service.Told(1)).ShouldBe(["first"]);
        await service.Service.DisposeAsync();
        for (int i = 2; i < 8; i++) await Db.StreamAddAsync(stream, "event", IntakeGround.Event($"{i}", $"text {i}"));
        await Db.StreamTrimAsync(stream, 2);
        await service.Restart();
        (await service.Told(3)).ShouldBe(["first", "text 6", "text 7"]);
        var state = await service.Until("crew", i => i["lost"] is not null, "the loss is told");
        ((string)state["lost"]!).ShouldStartWith($"4 entries of {stream}");
    }
}
