using System.Reflection;
using DbUp;
using DbUp.Engine.Output;
using Npgsql;
using Rovett.Storage.Sql;

namespace Rovett.Storage.Postgres;

/// <summary>The history in a PostgreSQL database (15 or newer) of its own.</summary>
public static class PostgresHistory
{
    const int MostReaders = 8;
    const long MigrationLock = 0x726f_7665_7475;

    /// <summary>Opens (and at first makes the tables of) the history, to write it.</summary>
    /// <param name="connectionString">As Npgsql reads it: <c>Host=…;Database=…;Username=…</c>.</param>
    /// <exception cref="StoreException">It can't be used; the message names the fix.</exception>
    public static SqlLedgerStore Open(string connectionString)
    {
        var hold = Hold(connectionString);
        try
        {
            return Open(connectionString, hold, 1, holds: true)[0];
        }
        catch
        {
            hold.Dispose();
            throw;
        }
    }

    /// <summary>Claims a database for this process, and creates missing tables.</summary>
    /// <param name="connectionString">As Npgsql reads it.</param>
    /// <param name="settled">Refuses one that must not be served, by a connection to it; null: any is taken.</param>
    /// <param name="node">What this process is called as one of several nodes; null: it has the database alone.</param>
    internal static PostgresHold Hold(string connectionString, Action<NpgsqlConnection>? settled = null, Guid? node = null)
    {
        var settings = Settings(connectionString);
        try
        {
            PostgresPooling.RequireLasting(settings);
            Migrate(settings);
            if (settled is not null)
            {
                using var look = new NpgsqlConnection(settings);
                look.Open();
                settled(look);
            }
            return new PostgresHold(settings, node: node);
        }
        catch (NpgsqlException error)
        {
            throw Unusable(error);
        }
    }

    /// <summary>Opens connections to write on.</summary>
    internal static IReadOnlyList<SqlLedgerStore> Open(string connectionString, PostgresHold hold, int lanes, bool holds = false,
        PostgresStatistics? statistics = null)
    {
        var opened = new List<SqlLedgerStore>();
        try
        {
            for (int i = 0; i < lanes; i++)
            {
                opened.Add(new SqlLedgerStore(new PostgresWriter(Settings(connectionString), hold, disposesHold: holds && i == 0,
                    statistics)));
            }
            return opened;
        }
        catch (Exception error)
        {
            foreach (var one in opened) one.Dispose();
            throw error is NpgsqlException broken ? Unusable(broken) : error;
        }
    }

    /// <summary>Brings history and credentials to the present schema. Processes that start at once take turns.</summary>
    static void Migrate(string settings)
    {
        using var turn = new NpgsqlConnection(settings);
        turn.Open();
        using (var wait = new NpgsqlCommand($"SELECT pg_advisory_lock({MigrationLock})", turn)) wait.ExecuteNonQuery();
        RefuseNewer(turn);
        var result = DeployChanges.To.PostgresqlDatabase(settings)
            .WithScriptsEmbeddedInAssembly(Assembly.GetExecutingAssembly(),
            name => name.Contains(".Postgres.Migrations.", StringComparison.Ordinal)
            || name.Contains(".Postgres.AccessMigrations.", StringComparison.Ordinal))
            .WithTransactionPerScript().WithVariablesDisabled().LogTo(new NoOpUpgradeLog()).Build().PerformUpgrade();
        if (!result.Successful)
        {
            throw new StoreException($"The database could not be brought to the present schema: {result.Error.Message}", result.Error);
        }
    }

    static void RefuseNewer(NpgsqlConnection connection)
    {
        using var table = new NpgsqlCommand("SELECT to_regclass('schemaversions') IS NOT NULL", connection);
        if (!(bool)table.ExecuteScalar()!) return;
        var had = new List<string>();
        using var ask = new NpgsqlCommand("SELECT scriptname FROM schemaversions", connection);
        using var row = ask.ExecuteReader();
        while (row.Read()) had.Add(row.GetString(0));
        SchemaSteps.RefuseNewer(SchemaSteps.In("Postgres.Migrations"), had.Where(s => !s.Contains("AccessMigrations",
            StringComparison.Ordinal)),
            "The database");
        SchemaSteps.RefuseNewer(SchemaSteps.In("Postgres.AccessMigrations"),
            had.Where(s => s.Contains("AccessMigrations", StringComparison.Ordinal)), "The database");
    }

    internal static StoreException Unusable(NpgsqlException error) => new($"The database can't be used: {error.Message}. Check that the " +
        "server runs and that the user may make tables in the database.", error);

    /// <summary>Reads the history beside its writer.</summary>
    public static SqlHistory Read(string connectionString) =>
        new(() =>
        {
            var reader = new PostgresSql(Settings(connectionString));
            reader.Connect();
            return reader;
        }, MostReaders);

    // Not pooled: the writer's lock must go with its connection. What is asked often is prepared by itself.
    internal static string Settings(string connectionString)
    {
        var settings = new NpgsqlConnectionStringBuilder(connectionString)
        { Pooling = false, MaxAutoPrepare = 200, AutoPrepareMinUsages = 2, Enlist = false };
        settings.ApplicationName ??= "rovett";
        // Of several hosts, the one that accepts writes; after a fail-over that is another one.
        if (settings.Host?.Contains(',', StringComparison.Ordinal) == true) settings.TargetSessionAttributes ??= "read-write";
        return settings.ConnectionString;
    }
}
