using System.Data;
using System.Data.Common;
using System.Text.RegularExpressions;
using Npgsql;
using Rovett.Storage.Sql;

namespace Rovett.Storage.Postgres;

/// <summary>A PostgreSQL connection. Writes are gathered and go out with the next read, or with the commit, in one round
/// trip. A writer holds a lock of its database for as long as it lives: there is one. When a connection breaks while a
/// commit is under way, whether it happened is looked up by the number that every commit writes.</summary>
public sealed partial class PostgresSql : ISql
{
    const long WriterLock = 0x726f_7665_7474;

    readonly string connectionString;
    readonly bool writes;
    readonly Dictionary<string, string> statements = [];
    NpgsqlConnection? connection;
    NpgsqlBatch? waiting;
    NpgsqlTransaction? reading;
    long batch;
    bool wrote;

    /// <summary>Connects.</summary>
    /// <exception cref="StoreException">It can't be reached, or (for a writer) another service writes to it.</exception>
    public PostgresSql(string connectionString, bool writes)
    {
        this.connectionString = connectionString;
        this.writes = writes;
        Connect();
    }

    void Connect()
    {
        connection?.Dispose();
        connection = null;
        waiting = null;
        var made = new NpgsqlConnection(connectionString);
        try
        {
            made.Open();
            // Waits a little: an earlier connection of ours that the server has not noticed to be gone holds the lock still.
            if (writes) Execute(made, $"SET synchronous_commit=on; SET lock_timeout='3s'; SELECT pg_advisory_lock({WriterLock})");
            connection = made;
            // Read anew with every connection: a commit whose answer was lost may have used a number up.
            if (writes) batch = Number("SELECT batch FROM store") ?? 0;
        }
        catch (PostgresException error) when (error.SqlState == PostgresErrorCodes.LockNotAvailable)
        {
            made.Dispose();
            throw new StoreException("Another service writes to this database. Stop it, or give each a database of its own.", error);
        }
        catch
        {
            made.Dispose();
            throw;
        }
    }

    static void Execute(NpgsqlConnection connection, string sql)
    {
        using var command = new NpgsqlCommand(sql, connection);
        command.ExecuteNonQuery();
    }

    /// <inheritdoc/>
    public void Begin(bool lasting = true)
    {
        if (connection?.State != ConnectionState.Open) Connect();
        wrote = false;
        Defer("BEGIN", []);
        if (!lasting) Defer("SET LOCAL synchronous_commit=off", []);
    }

    /// <inheritdoc/>
    public void Sync()
    {
        Begin();
        wrote = true;
        Commit();
    }

    /// <inheritdoc/>
    public void BeginReading()
    {
        if (connection?.State != ConnectionState.Open) Connect();
        // Goes out with the first query. Not as a statement of a batch: the driver writes the second of a batch on the thread pool, whose
        // threads may all be waiting for their turn to read.
        reading = connection!.BeginTransaction(IsolationLevel.RepeatableRead);
    }

    /// <inheritdoc/>
    public void Commit()
    {
        if (reading is not null)
        {
            reading.Commit();
            reading = null;
            return;
        }
        long number = batch + 1;
        if (wrote) Defer("UPDATE store SET batch=?1", [number]);
        Defer("COMMIT", []);
        try
        {
            Flush();
        }
        catch (Exception error) when (wrote && error is NpgsqlException and not PostgresException)
        {
            Connect(); // broken before the server's answer: what is stored says whether the commit is there
            if (batch != number) throw;
        }
        if (wrote) batch = number;
    }

    /// <inheritdoc/>
    public void Rollback()
    {
        waiting = null;
        reading = null;
        if (connection?.State != ConnectionState.Open) return;
        try
        {
            Execute(connection, "ROLLBACK");
        }
        catch (Exception error) when (error is DbException or IOException or InvalidOperationException)
        {
            connection.Dispose(); // the server forgets it with the connection
        }
    }

    /// <inheritdoc/>
    public void ScrubFreed()
    {
        // The server's own vacuum does that in its time; its write-ahead log is the administrator's.
    }

    /// <inheritdoc/>
    public void Run(string sql, params ReadOnlySpan<object?> values)
    {
        wrote = true;
        Defer(sql, values);
    }

    /// <inheritdoc/>
    public long? Number(string sql, params ReadOnlySpan<object?> values)
    {
        using var reader = Query(sql, values);
        return reader.Read() && !reader.IsDBNull(0) ? reader.GetInt64(0) : null;
    }

    /// <inheritdoc/>
    public T? One<T>(string sql, Func<DbDataReader, T> read, params ReadOnlySpan<object?> values) where T : class
    {
        using var reader = Query(sql, values);
        return reader.Read() ? read(reader) : null;
    }

    /// <inheritdoc/>
    public List<T> All<T>(string sql, Func<DbDataReader, T> read, params ReadOnlySpan<object?> values)
    {
        var list = new List<T>();
        using var reader = Query(sql, values);
        while (reader.Read()) list.Add(read(reader));
        return list;
    }

    NpgsqlDataReader Query(string sql, ReadOnlySpan<object?> values)
    {
        Defer(sql, values);
        var all = waiting!;
        waiting = null;
        return all.ExecuteReader(); // of what was gathered only the query has rows
    }

    void Flush()
    {
        var all = waiting;
        waiting = null;
        all?.ExecuteNonQuery();
    }

    void Defer(string sql, ReadOnlySpan<object?> values)
    {
        if (!statements.TryGetValue(sql, out var text)) statements[sql] = text = Parameter().Replace(sql, "$$$1");
        waiting ??= new NpgsqlBatch(connection);
        var command = new NpgsqlBatchCommand(text);
        foreach (var value in values) command.Parameters.Add(new NpgsqlParameter { Value = value ?? DBNull.Value });
        waiting.BatchCommands.Add(command);
    }

    [GeneratedRegex(@"\?(\d+)")]
    private static partial Regex Parameter();

    /// <inheritdoc/>
    public void Dispose() => connection?.Dispose();
}
