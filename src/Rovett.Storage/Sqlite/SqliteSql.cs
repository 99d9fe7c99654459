using System.Data.Common;
using Microsoft.Data.Sqlite;
using Rovett.Storage.Sql;

namespace Rovett.Storage.Sqlite;

/// <summary>A SQLite connection with prepared statements.</summary>
/// <param name="connection">The connection, which it closes.</param>
/// <param name="checkpoints">Of the file, when something else than its commits makes them; ended with it.</param>
public sealed class SqliteSql(SqliteConnection connection, SqliteCheckpoints? checkpoints = null) : ISql
{
    readonly Dictionary<string, SqliteCommand> statements = [];

    /// <inheritdoc/>
    public void Begin() => Run("BEGIN IMMEDIATE");

    /// <inheritdoc/>
    public void BeginReading() => Run("BEGIN");

    /// <inheritdoc/>
    public void Commit()
    {
        Run("COMMIT");
        checkpoints?.Committed();
    }

    /// <inheritdoc/>
    public void Rollback()
    {
        try
        {
            Run("ROLLBACK");
        }
        catch (SqliteException)
        {
            // No transaction was open, or SQLite has rolled it back itself: both are what is wanted.
        }
    }

    /// <inheritdoc/>
    public void Run(string sql, params ReadOnlySpan<object?> values) => Prepared(sql, values).ExecuteNonQuery();

    /// <inheritdoc/>
    public long? Number(string sql, params ReadOnlySpan<object?> values) => Prepared(sql, values).ExecuteScalar() is long number ? number : null;

    /// <inheritdoc/>
    public T? One<T>(string sql, Func<DbDataReader, T> read, params ReadOnlySpan<object?> values) where T : class
    {
        using var reader = Prepared(sql, values).ExecuteReader();
        return reader.Read() ? read(reader) : null;
    }

    /// <inheritdoc/>
    public List<T> All<T>(string sql, Func<DbDataReader, T> read, params ReadOnlySpan<object?> values)
    {
        var list = new List<T>();
        using var reader = Prepared(sql, values).ExecuteReader();
        while (reader.Read()) list.Add(read(reader));
        return list;
    }

    SqliteCommand Prepared(string sql, ReadOnlySpan<object?> values)
    {
        if (!statements.TryGetValue(sql, out var command))
        {
            command = connection.CreateCommand();
            command.CommandText = sql;
            for (int i = 1; i <= values.Length; i++) command.Parameters.Add(new SqliteParameter { ParameterName = $"?{i}" });
            statements[sql] = command;
        }
        for (int i = 0; i < values.Length; i++) command.Parameters[i].Value = values[i] ?? DBNull.Value;
        return command;
    }

    /// <inheritdoc/>
    public void Dispose()
    {
        checkpoints?.Dispose();
        foreach (var statement in statements.Values) statement.Dispose();
        connection.Dispose();
    }
}
