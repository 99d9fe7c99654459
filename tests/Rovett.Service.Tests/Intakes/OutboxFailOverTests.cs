using System.Globalization;
using Npgsql;
using Rovett.Service.Intakes.Outbox;
using Rovett.Testing.Servers;
using Shouldly;
using Xunit;

namespace Rovett.Service.Tests.Intakes;

/// <summary>The database of the outbox fails over to its standby while events are written and taken.</summary>
public sealed class OutboxFailOverTests
{
    [Fact]
    public async Task There_is_one_notification_for_each_event_that_the_new_primary_has()
    {
        using var first = new PostgresServer();
        var database = first.NewDatabase();
        await Sql(database, OutboxSql.Create(OutboxKind.DefaultTable, null) + "CREATE TABLE change (n int PRIMARY KEY);");
        using var second = first.Standby();
        await using var service = await IntakeGround.Start($$"""
            intakes:
              - name: planning
                batch: 7
                outbox: { host: "127.0.0.1:{{first.Port}},127.0.0.1:{{second.Port}}", database: store1, user: rovett }
            """);
        const int before = 60, all = 120;
        int n = 0;
        for (; n < before; n++) await Write(database, n);
        first.Crash(); // with rows that are taken and rows that are not
        second.Promote();
        var promoted = new NpgsqlConnectionStringBuilder(database) { Host = second.Folder, Port = second.Port }.ConnectionString;
        for (; n < all; n++) await Write(promoted, n);
        (await service.Told(all)).ShouldBe([.. Enumerable.Range(0, all).Select(i => i.ToString(CultureInfo.InvariantCulture))]);
    }

    static Task Write(string database, int n) => Sql(database, $"BEGIN; INSERT INTO change VALUES ({n}); " +
        $"INSERT INTO rovett_outbox (event) VALUES ('{IntakeGround.Event($"e{n}", $"{n}")}'); COMMIT;");

    static async Task Sql(string database, string sql)
    {
        await using var connection = new NpgsqlConnection(database);
        await connection.OpenAsync();
        await using var command = new NpgsqlCommand(sql, connection);
        await command.ExecuteNonQueryAsync();
    }
}
