using Npgsql;
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
        // Four that write, the one that keeps others out, credentials, tickets, eight that read, and one that asks for the size.
        most.ShouldBeInRange(2, 16);
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
