using System.Text.Json.Nodes;
using Npgsql;
using Rovett.Client;
using Rovett.Storage;
using Rovett.Testing;
using Rovett.Testing.Servers;
using Shouldly;
using Xunit;

namespace Rovett.Service.Tests;

/// <summary>Everything in a PostgreSQL database in place of a data folder. The other tests of the service run on one too:
/// <c>make test-postgres</c>.</summary>
public sealed class PostgresHomeTests
{
    [Fact]
    public async Task After_a_fail_over_it_goes_on_with_the_new_primary_and_has_all_that_was_answered()
    {
        using var first = new PostgresServer();
        first.NewDatabase(); // store1
        using var second = first.Standby();
        await using var s = await ServiceUnderTest.Start(
            o => o.Database = $"Host=127.0.0.1:{first.Port},127.0.0.1:{second.Port};Username=rovett;Database=store1");
        var token = s.Token("mara");
        using var live = await s.WebSocket(token);
        await live.Next("opened");
        for (int i = 0; i < 30; i++) await s.Send("user:mara", $"{i}");
        first.Crash();
        (await s.Post("/v1/notifications", s.Key, """{"to":["user:mara"],"type":"t","title":"never"}""")).Problem
            .ShouldBeOneOf("store-unavailable", "outcome-unknown");
        second.Promote();
        await Eventually.Holds(async () => (await s.Post("/v1/notifications", s.Key, """{"to":["user:mara"],"type":"t","title":"30"}""",
            ("Idempotency-Key", "thirty"))).Status, status => status == 201, "it sends again");
        for (int i = 31; i < 40; i++) await s.Send("user:mara", $"{i}");
        var titles = (await s.Get("/v1/inbox?limit=100", token)).Json!["items"]!.AsArray().Select(i => (string)i!["title"]!).Reverse();
        titles.ShouldBe(Enumerable.Range(0, 40).Select(i => $"{i}"));
        (await s.Totals(token)).Unread.ShouldBe(40);
    }

    [Fact]
    public async Task It_shows_where_it_is_without_the_password_and_a_second_service_is_refused()
    {
        using var server = new PostgresServer();
        var database = server.NewDatabase() + ";Password=hunter2";
        await using var s = await ServiceUnderTest.Start(o => o.Database = database);
        var status = (await s.Get("/v1/status", s.Key)).Text;
        status.ShouldContain($"{server.Port}/store1");
        status.ShouldNotContain("hunter2");
        (await Should.ThrowAsync<StoreException>(() => ServiceUnderTest.Start(o => o.Database = database))).Message
            .ShouldContain("Another service writes to this database");
        await s.Restart();
        (await s.Get("/v1/status", s.Key)).Status.ShouldBe(200);
    }

    [Fact]
    public async Task A_pooler_that_gives_each_transaction_another_connection_is_refused_and_one_that_keeps_them_is_not()
    {
        using var server = new PostgresServer();
        server.NewDatabase(); // store1
        using var shares = new PgBouncer(server, "transaction");
        await shares.Start();
        (await Should.ThrowAsync<StoreException>(() => ServiceUnderTest.Start(o => o.Database = shares.Database("store1")))).Message
            .ShouldContain("session pooling");
        using var keeps = new PgBouncer(server, "session");
        await keeps.Start();
        await using var s = await ServiceUnderTest.Start(o => o.Database = keeps.Database("store1"));
        await s.Send("user:mara");
        (await s.Totals(s.Token("mara"))).Unread.ShouldBe(1);
    }

    [Fact]
    public async Task Many_readers_at_once_share_a_few_connections()
    {
        using var server = new PostgresServer();
        var database = server.NewDatabase();
        await using var s = await ServiceUnderTest.Start(o => o.Database = database);
        await s.Send("user:mara");
        var token = s.Token("mara");
        var reading = Task.WhenAll(Enumerable.Range(0, 400).Select(_ => s.Get("/v1/inbox", token)));
        long most = 0;
        await using var look = new NpgsqlConnection(database.Replace("store1", "postgres", StringComparison.Ordinal) + ";Pooling=false");
        await look.OpenAsync(TestContext.Current.CancellationToken);
        while (!reading.IsCompleted)
        {
            await using var count = new NpgsqlCommand("SELECT count(*) FROM pg_stat_activity WHERE datname='store1'", look);
            most = Math.Max(most, (long)(await count.ExecuteScalarAsync(TestContext.Current.CancellationToken))!);
        }
        (await reading).ShouldAllBe(answer => answer.Status == 200);
        // Four that write, the one that keeps others out, the one that hears of changes, credentials, tickets, eight that read, and one
        // that asks for the size.
        most.ShouldBeInRange(2, 17);
    }

    [Fact]
    public async Task After_confirmed_commits_were_lost_it_ends_and_the_next_start_tells_devices()
    {
        using var server = new PostgresServer();
        var database = server.NewDatabase();
        var folder = Directory.CreateTempSubdirectory("rovett-lost-").FullName;
        string[] more = ["--database", database];
        string secret, cursor;
        using (var service = await ServiceProcess.Start(folder, more))
        {
            secret = (string)service.Ready["credentials"]!["tokenSigningSecret"]!;
            using var backend = new RovettClient(service.Url, (string)service.Ready["credentials"]!["adminKey"]!);
            async Task Send(string title) => await backend.Call(HttpMethod.Post, "/v1/notifications",
                new JsonObject { ["to"] = new JsonArray("user:mara"), ["type"] = "t", ["title"] = title });
            for (int i = 0; i < 3; i++) await Send($"{i}");
            using var mara = new RovettClient(service.Url, TestTokens.Make(secret, "mara", []));
            cursor = (string)(await mara.Call(HttpMethod.Get, "/v1/inbox?limit=1"))["items"]![0]!["cursor"]!;
            // As on a standby that had not received the last commit.
            await using (var behind = new NpgsqlConnection(database + ";Pooling=false"))
            {
                await behind.OpenAsync(TestContext.Current.CancellationToken);
                await using var back = new NpgsqlCommand("DELETE FROM batch_done WHERE space=1 AND batch=(SELECT max(batch) FROM " +
                    "batch_done " +
                    "WHERE space=1); SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname=current_database() AND " +
                    "pid<>pg_backend_pid()", behind);
                await back.ExecuteNonQueryAsync(TestContext.Current.CancellationToken);
            }
            await Should.ThrowAsync<Exception>(() => Send("never"));
            (await service.End()).ShouldBe(1);
            service.Printed.ShouldContain("lost commits");
        }
        using (var service = await ServiceProcess.Start(folder, more))
        {
            using var live = await RawWebSocket.Connect(service.Url.Port, $"/v1/live?after={cursor}", TestTokens.Make(secret, "mara", []));
            ((string)(await live.Next("gap"))["reason"]!).ShouldBe("new-life");
        }
        Directory.Delete(folder, recursive: true);
    }

    [Theory]
    [InlineData("Port=5432", "database", "names no Host")]
    [InlineData("Host=db.internal", "database", "names no Database")]
    [InlineData("Host=db.internal;Colour=red;Database=x", "database", "colour")]
    public async Task A_database_that_can_not_be_one_is_refused_with_the_fix(string database, string field, string why)
    {
        var run = await ServiceProcess.Cli(["serve", "--database", database]);
        run.ExitCode.ShouldBe(2);
        run.Error.ShouldContain(field);
        run.Error.ShouldContain(why);
        run.Error.ShouldContain("Host=db.internal;Database=rovett;Username=rovett");
    }
}
