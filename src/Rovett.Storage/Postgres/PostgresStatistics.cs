using Npgsql;

namespace Rovett.Storage.Postgres;

/// <summary>Has the server look at tables that grew much since it last did. By itself it does so within a minute; until then it goes
/// through all rows of a new or restored database where an index would do. Thread-safe.</summary>
/// <param name="settings">The connection string. A connection is made for each look.</param>
/// <param name="failed">Hears why a look failed; the next comes in its time.</param>
public sealed class PostgresStatistics(string settings, Action<Exception>? failed = null) : IDisposable
{
    /// <summary>After so many rows were written it looks again; after twice as many each time that nothing had grown.</summary>
    const int Rows = 1000, MostRows = 64 * Rows;

    // Few pages, which are read as fast as an index; and tables that are less than twice what they were.
    const string Grown = "SELECT format('%I.%I', n.nspname, c.relname) FROM pg_class c JOIN pg_namespace n ON n.oid=c.relnamespace " +
        "WHERE c.relkind='r' AND n.nspname=current_schema() AND " +
        "pg_relation_size(c.oid) > (8 + 2*greatest(c.relpages, 0)) * current_setting('block_size')::bigint";

    readonly Lock gate = new();
    long written = Rows; // what was stored before it began counts as written
    int least = Rows;
    Task look = Task.CompletedTask;
    bool isOver;

    /// <summary>So many rows were committed.</summary>
    public void Committed(long rows)
    {
        lock (gate)
        {
            written += rows;
            if (written < least || isOver || !look.IsCompleted) return;
            written = 0;
            look = Task.Run(Look);
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
            // One after the other, so that the first help while the last are looked at. What another node looks at is left to it.
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

    /// <summary>Ends, after the table that is being looked at.</summary>
    public void Dispose()
    {
        Task last;
        lock (gate) (isOver, last) = (true, look);
        last.Wait();
    }
}
