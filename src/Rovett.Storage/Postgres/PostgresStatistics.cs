using Npgsql;

namespace Rovett.Storage.Postgres;

/// <summary>Has the server collect statistics for tables that have grown a lot. It would do so by itself within a minute; until then it
/// scans the tables of a new or restored database where an index would do. Thread-safe.</summary>
/// <param name="settings">The connection string. Every check opens its own connection.</param>
/// <param name="failed">Called when a check fails. Checking goes on as usual.</param>
public sealed class PostgresStatistics(string settings, Action<Exception>? failed = null) : IDisposable
{
    /// <summary>Rows written between two checks; doubled each time that no table had grown.</summary>
    const int Rows = 1000, MostRows = 64 * Rows;

    // Leaves out small tables, which are scanned as fast as an index, and tables that have not doubled.
    const string Grown = "SELECT format('%I.%I', n.nspname, c.relname) FROM pg_class c JOIN pg_namespace n ON n.oid=c.relnamespace " +
        "WHERE c.relkind='r' AND n.nspname=current_schema() AND " +
        "pg_relation_size(c.oid) > (8 + 2*greatest(c.relpages, 0)) * current_setting('block_size')::bigint";

    readonly Lock gate = new();
    long written = Rows; // the first commit causes a check, as the database may have been restored
    int least = Rows;
    Task look = Task.CompletedTask;
    bool isLooking, isOver;

    /// <summary>Notes a commit.</summary>
    /// <param name="rows">The rows that it wrote.</param>
    public void Committed(long rows)
    {
        lock (gate)
        {
            written += rows;
            if (written < least || isOver || isLooking) return;
            (written, isLooking) = (0, true);
            look = Task.Run(LookUntilQuiet);
        }
    }

    void LookUntilQuiet()
    {
        for (; ; )
        {
            Look();
            lock (gate)
            {
                // Rows written during the check may have been missed by it, and may be the last for a long time.
                isLooking = written >= least && !isOver;
                if (!isLooking) return;
                written = 0;
            }
        }
    }

    void Look()
    {
        try
        {
            using var connection = new NpgsqlConnection(settings);
            connection.Open();
            var tables = new List<string>();
            using (var ask = new NpgsqlCommand(Grown, connection))
            {
                using var row = ask.ExecuteReader();
                while (row.Read()) tables.Add(row.GetString(0));
            }
            lock (gate) least = tables.Count > 0 ? Rows : Math.Min(2 * least, MostRows);
            // One statement a table, so that each counts at once. A table that another node is working on is skipped.
            foreach (var table in tables)
            {
                lock (gate)
                {
                    if (isOver) return;
                }
                PostgresSql.Execute(connection, $"ANALYZE (SKIP_LOCKED) {table}");
            }
        }
        catch (Exception error)
        {
            failed?.Invoke(error);
        }
    }

    /// <summary>Stops after the table under way, which is waited for a little.</summary>
    public void Dispose()
    {
        Task last;
        lock (gate) (isOver, last) = (true, look);
        last.Wait(TimeSpan.FromSeconds(2));
    }
}
