using System.Reflection;
using DbUp;
using DbUp.Engine.Output;
using Npgsql;
using Rovett.Storage.Sql;

namespace Rovett.Storage.Postgres;

/// <summary>The history in a PostgreSQL database (15 or newer) of its own.</summary>
public static class PostgresHistory
{
    /// <summary>Opens (and at first makes the tables of) the history, to write it.</summary>
    /// <param name="connectionString">As Npgsql reads it: <c>Host=…;Database=…;Username=…</c>.</param>
    /// <exception cref="StoreException">It can't be used; the message names the fix.</exception>
    public static SqlLedgerStore Open(string connectionString)
    {
        var settings = Settings(connectionString);
        try
        {
            var result = DeployChanges.To.PostgresqlDatabase(settings)
                .WithScriptsEmbeddedInAssembly(Assembly.GetExecutingAssembly(),
                name => name.Contains(".Postgres.Migrations.", StringComparison.Ordinal))
                .WithTransactionPerScript().LogTo(new NoOpUpgradeLog()).Build().PerformUpgrade();
            if (!result.Successful)
            {
                throw new StoreException($"The database could not be brought to the present schema: {result.Error.Message}", result.Error);
            }
            return new SqlLedgerStore(new PostgresSql(settings, writes: true));
        }
        catch (NpgsqlException error)
        {
            throw new StoreException($"The database can't be used: {error.Message}. Check that the server runs and that the user may " +
                $"make tables in the database.", error);
        }
    }

    /// <summary>Reads the history beside its writer.</summary>
    public static SqlHistory Read(string connectionString) => new(() => new PostgresSql(Settings(connectionString), writes: false));

    // Not pooled: the writer's lock must go with its connection. What is asked often is prepared by itself.
    static string Settings(string connectionString) =>
        new NpgsqlConnectionStringBuilder(connectionString)
        { Pooling = false, MaxAutoPrepare = 200, AutoPrepareMinUsages = 2, Enlist = false }.ConnectionString;
}
