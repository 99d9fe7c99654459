using Npgsql;
using Rovett.Client;
using Rovett.Service.Intakes.Outbox;

namespace Rovett.Cli.Demo;

/// <summary>The planning office of the ferries: a backend with a PostgreSQL of its own, which writes each change together with its event
/// in one transaction.</summary>
sealed class PlanningOffice(DemoDatabase server) : IAsyncDisposable
{
    const string Name = "planning";
    static readonly Outbox Outbox = new();

    /// <summary>The port of its database, on loopback.</summary>
    public int Port => server.Port;

    /// <summary>Starts it.</summary>
    /// <returns>Null: no PostgreSQL is installed here.</returns>
    public static async Task<PlanningOffice?> Start()
    {
        if (await DemoDatabase.Start(Name) is not { } server) return null;
        await server.Create(Name);
        await server.Sql(Name, OutboxSql.Create(OutboxKind.DefaultTable, null) +
            "CREATE TABLE check_plan (id bigint, vessel text, due timestamptz DEFAULT now())");
        return new PlanningOffice(server);
    }

    /// <summary>Notes that a check is due, with the event that tells of it.</summary>
    /// <param name="found">The event.</param>
    /// <param name="isCommitted">Whether the transaction is committed; otherwise it is rolled back, and nothing has happened.</param>
    public async Task Note(BackendEvent found, bool isCommitted = true)
    {
        await using var connection = new NpgsqlConnection(server.Connection(Name));
        await connection.OpenAsync();
        await using var transaction = await connection.BeginTransactionAsync();
        await using (var change = new NpgsqlCommand("INSERT INTO check_plan (id, vessel) VALUES ($1, $2)", connection, transaction))
        {
            change.Parameters.Add(new NpgsqlParameter { Value = (long)found.Data!["id"]! });
            change.Parameters.Add(new NpgsqlParameter { Value = (string)found.Data["vessel"]!["id"]! });
            await change.ExecuteNonQueryAsync();
        }
        await Outbox.Add(connection, transaction, found);
        if (isCommitted) await transaction.CommitAsync();
    }

    public ValueTask DisposeAsync() => server.DisposeAsync();
}
