using System.Text.Json.Nodes;
using Npgsql;
using Rovett.Client;
using Rovett.Service.Intakes.Outbox;
using Rovett.Testing;
using Rovett.Testing.Servers;
using Shouldly;
using Xunit;

namespace Rovett.Service.Tests.Intakes;

/// <summary>Events out of a table of the backend's own PostgreSQL.</summary>
public sealed class OutboxTests(PostgresServer server) : IClassFixture<PostgresServer>, IAsyncLifetime
{
    readonly string database = server.NewDatabase();
    NpgsqlConnection backend = null!;

    public async ValueTask InitializeAsync()
    {
        backend = new NpgsqlConnection(database + ";Pooling=false");
        await backend.OpenAsync();
        await Sql(OutboxSql.Create("rovett_outbox", null));
    }

    public async ValueTask DisposeAsync() => await backend.DisposeAsync();

    string Name => new NpgsqlConnectionStringBuilder(database).Database!;

    string File(string more = "", int? port = null) => $$"""
        intakes:
          - name: planning
            batch: 50
            outbox: { host: 127.0.0.1, port: {{port ?? server.Port}}, database: {{Name}}, user: rovett, poll: 10m{{more}} }
        """;

    async Task Sql(string sql, NpgsqlConnection? on = null)
    {
        await using var command = new NpgsqlCommand(sql, on ?? backend);
        await command.ExecuteNonQueryAsync();
    }

    Task Insert(string json, NpgsqlConnection? on = null) => Sql($"INSERT INTO rovett_outbox (event) VALUES ('{json}')", on);

    async Task<long> Rows(string where = "true")
    {
        await using var ask = new NpgsqlCommand($"SELECT count(*) FROM rovett_outbox WHERE {where}", backend);
        return (long)(await ask.ExecuteScalarAsync())!;
    }

    [Fact]
    public async Task Rows_are_taken_in_order_as_they_are_committed_and_removed()
    {
        for (int i = 0; i < 120; i++) await Insert(IntakeGround.Event($"e{i}", $"check {i}"));
        await using var service = await IntakeGround.Start(File());
        (await service.Told(120)).ShouldBe([.. Enumerable.Range(0, 120).Select(i => $"check {i}")]);
        // A commit wakes it: the next look by itself is ten minutes away.
        await Insert(IntakeGround.Event("e120", "check 120"));
        (await service.Told(121))[^1].ShouldBe("check 120");
        await Eventually.Holds(() => Rows(), n => n == 0, "taken rows are removed");
        var state = await service.Intake("planning");
        ((string)state["state"]!, (long)state["events"]!, (long)state["behind"]!).ShouldBe(("running", 121, 0));
    }

    [Fact]
    public async Task A_transaction_that_commits_late_is_not_overlooked_and_one_that_is_rolled_back_tells_nobody()
    {
        await using var service = await IntakeGround.Start(File());
        await using var other = new NpgsqlConnection(database + ";Pooling=false");
        await other.OpenAsync();
        await using var late = await other.BeginTransactionAsync();
        await Insert(IntakeGround.Event("late", "late"), other); // the lowest number
        await Insert(IntakeGround.Event("early", "early"));
        (await service.Told(1)).ShouldBe(["early"]);
        await late.CommitAsync();
        (await service.Told(2)).ShouldBe(["early", "late"]);
        await using (await other.BeginTransactionAsync()) await Insert(IntakeGround.Event("never", "never"), other);
        await Insert(IntakeGround.Event("last", "last"));
        (await service.Told(3)).ShouldBe(["early", "late", "last"]);
    }

    [Fact]
    public async Task The_key_of_a_row_is_the_id_of_an_event_that_has_none()
    {
        await using var service = await IntakeGround.Start(File());
        await Insert("""{"source":"/planning/1","type":"engine.check.due","data":{"text":"short"}}""");
        (await service.Told(1)).ShouldBe(["short"]);
        var found = (await service.Get("/v1/events", service.Key)).Json!["events"]![0]!;
        Guid.TryParse((string)found["id"]!, out _).ShouldBeTrue();
    }

    [Fact]
    public async Task The_client_writes_in_the_transaction_of_the_backend()
    {
        await using var service = await IntakeGround.Start(File());
        var outbox = new Outbox();
        static BackendEvent Event(string text) => new("/planning/1", "engine.check.due", "vessel/turnstone", new JsonObject { ["text"] = text });
        await using (var transaction = await backend.BeginTransactionAsync())
        {
            await outbox.Add(backend, transaction, Event("rolled back"));
        }
        await using (var transaction = await backend.BeginTransactionAsync())
        {
            await outbox.Add(backend, transaction, Event("first"));
            await outbox.Add(backend, transaction, Event("second"));
            await transaction.CommitAsync();
        }
        await outbox.Add(backend, null, Event("third"));
        (await service.Told(3)).ShouldBe(["first", "second", "third"]);
        Should.Throw<ArgumentException>(() => new Outbox("x; DROP TABLE crew"));
    }

    [Fact]
    public async Task What_is_no_event_is_set_aside_once_and_the_rows_behind_it_are_taken()
    {
        await Insert("""{"type":"engine.check.due"}""");
        await Insert("[1]");
        await Insert(IntakeGround.Event("big", new string('x', 70_000)));
        await Insert(IntakeGround.Event("good", "good"));
        await using var service = await IntakeGround.Start(File());
        (await service.Told(1)).ShouldBe(["good"]);
        await Eventually.Holds(() => Rows(), n => n == 0, "all rows are removed");
        var items = (await service.Get("/v1/set-aside", service.Key)).Json!["items"]!.AsArray();
        items.Count.ShouldBe(3);
        ((string)items[0]!["reason"]!).ShouldContain("source: is missing");
        ((int)items[2]!["detail"]!["size"]!).ShouldBeGreaterThan(70_000);
        ((string)items[2]!["detail"]!["text"]!).Length.ShouldBe(64 * 1024);
        // What is too large is not there whole; it takes an event in its place.
        long big = (long)items[2]!["number"]!;
        ((string)(await service.Post($"/v1/set-aside/{big}/retry", service.Key, "{}")).Json!["reason"]!).ShouldContain("too large");
        ((bool)(await service.Post($"/v1/set-aside/{big}/retry", service.Key, $$"""{"event":{{IntakeGround.Event("big", "cut")}}}"""))
            .Json!["done"]!).ShouldBeTrue();
    }

    [Fact]
    public async Task Rows_can_be_kept_and_are_then_marked()
    {
        await using var service = await IntakeGround.Start(File(", keep: 1d"));
        await Insert(IntakeGround.Event("1", "kept"));
        (await service.Told(1)).ShouldBe(["kept"]);
        await Eventually.Holds(() => Rows("taken IS NOT NULL"), n => n == 1, "the row is marked");
    }

    [Fact]
    public async Task While_the_database_is_away_it_waits_and_tells_why()
    {
        using var relay = new Relay(server.Port);
        await using var service = await IntakeGround.Start(File(port: relay.Url.Port));
        await Insert(IntakeGround.Event("1", "one"));
        (await service.Told(1)).ShouldBe(["one"]);
        server.Crash();
        var state = await service.Until("planning", i => (string)i["state"]! == "waiting", "it waits");
        ((string)state["reason"]!).ShouldNotBeEmpty();
        (await service.Get("/readyz", null)).Text.ShouldContain("1 of 1 intakes waits");
        var test = (await service.Post("/v1/intakes/planning/test", service.Key, "")).Json!;
        ((bool)test["works"]!).ShouldBeFalse();
        server.Start();
        await backend.DisposeAsync();
        backend = new NpgsqlConnection(database + ";Pooling=false");
        await backend.OpenAsync();
        await Insert(IntakeGround.Event("2", "two"));
        (await service.Told(2)).ShouldBe(["one", "two"]);
        ((bool)(await service.Post("/v1/intakes/planning/test", service.Key, "")).Json!["works"]!).ShouldBeTrue();
    }

    [Fact]
    public async Task Of_several_hosts_the_one_that_takes_writes_is_used()
    {
        await using var service = await IntakeGround.Start(File().Replace("host: 127.0.0.1", "host: \"127.0.0.2,127.0.0.1\""));
        await Insert(IntakeGround.Event("1", "one"));
        (await service.Told(1)).ShouldBe(["one"]);
    }

    [Fact]
    public async Task A_pause_ends_the_waiting_for_room()
    {
        await using var service = await IntakeGround.Start(File());
        (await service.Call(HttpMethod.Patch, "/v1/settings", service.Key, """{"limits":{"sendsPerSecond":1}}""")).Status.ShouldBe(200);
        for (int i = 0; i < 60; i++) await Insert(IntakeGround.Event($"{i}", $"{i}"));
        await service.Told(1);
        (await service.Post("/v1/intakes/planning/pause", service.Key, "")).Status.ShouldBe(200);
        await service.Until("planning", i => (string)i["state"]! == "paused", "it is paused although it has to wait");
        (await service.Call(HttpMethod.Patch, "/v1/settings", service.Key, """{"limits":{"sendsPerSecond":0}}""")).Status.ShouldBe(200);
        (await service.Post("/v1/intakes/planning/resume", service.Key, "")).Status.ShouldBe(200);
        (await service.Told(60)).ShouldBe([.. Enumerable.Range(0, 60).Select(i => $"{i}")]);
    }

    [Fact]
    public async Task An_outbox_has_one_reader()
    {
        await using var service = await IntakeGround.Start(File());
        await service.Until("planning", i => (string)i["state"]! == "running", "it reads");
        await using var second = await IntakeGround.Start(File());
        var state = await second.Until("planning", i => (string)i["state"]! == "waiting", "it waits");
        ((string)state["reason"]!).ShouldContain("another reader");
    }

    [Fact]
    public async Task A_password_comes_out_of_a_file_and_is_shown_nowhere()
    {
        await Sql("CREATE ROLE reader LOGIN PASSWORD 'hunter2'; GRANT SELECT, DELETE, UPDATE (taken) ON rovett_outbox TO reader");
        var secret = Path.Combine(Directory.CreateTempSubdirectory("rovett-secret-").FullName, "planning");
        var file = File($$""", password: { file: {{secret}} }""").Replace("user: rovett", "user: reader");
        await using var service = await IntakeGround.Start(file);
        var state = await service.Until("planning", i => (string)i["state"]! == "waiting", "the secret is not there yet");
        ((string)state["reason"]!).ShouldContain("the secret can't be read");
        await System.IO.File.WriteAllTextAsync(secret, "hunter2\n");
        await Insert(IntakeGround.Event("1", "one"));
        (await service.Told(1)).ShouldBe(["one"]);
        (await service.Get("/v1/intakes", service.Key)).Text.ShouldNotContain("hunter2");
    }
}
