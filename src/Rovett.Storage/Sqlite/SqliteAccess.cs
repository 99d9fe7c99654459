using Dapper;
using Microsoft.Data.Sqlite;
using Rovett.Storage.Access;

namespace Rovett.Storage.Sqlite;

/// <summary>Credentials in a file of a data folder.</summary>
/// <param name="connection">A connection, which it closes.</param>
sealed class SqliteAccess(SqliteConnection connection) : IAccessSql
{
    readonly Lock gate = new();

    public int Run(string sql, object parameters)
    {
        lock (gate) return connection.Execute(sql, parameters);
    }

    public T? One<T>(string sql, object parameters) where T : class
    {
        lock (gate) return connection.QueryFirstOrDefault<T>(sql, parameters);
    }

    public List<T> All<T>(string sql, object parameters)
    {
        lock (gate) return [.. connection.Query<T>(sql, parameters)];
    }

    public void Together(Action work)
    {
        lock (gate)
        {
            SqliteFiles.Execute(connection, "BEGIN IMMEDIATE");
            try
            {
                work();
                SqliteFiles.Execute(connection, "COMMIT");
            }
            catch
            {
                SqliteFiles.Execute(connection, "ROLLBACK");
                throw;
            }
        }
    }

    public void Tell(string space, string kind)
    {
        // A folder is one process's.
    }

    // Moves everything out of the write-ahead log and empties it.
    public void ScrubFreed()
    {
        lock (gate) SqliteFiles.Execute(connection, "PRAGMA wal_checkpoint(TRUNCATE)");
    }

    public void Dispose()
    {
        lock (gate) connection.Dispose();
    }
}
