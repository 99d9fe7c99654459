using Microsoft.Data.Sqlite;

namespace Rovett.Storage.Sqlite;

/// <summary>A prepared statement whose parameters are given by order: <c>?1</c>, <c>?2</c> … One thread at a time.</summary>
sealed class Statement : IDisposable
{
    readonly SqliteCommand command;

    public Statement(SqliteConnection connection, string sql)
    {
        command = connection.CreateCommand();
        command.CommandText = sql;
        int count = 0;
        while (sql.Contains($"?{count + 1}", StringComparison.Ordinal)) count++;
        for (int i = 1; i <= count; i++) command.Parameters.Add(new SqliteParameter { ParameterName = $"?{i}" });
    }

    Statement Bind(ReadOnlySpan<object?> values)
    {
        for (int i = 0; i < values.Length; i++) command.Parameters[i].Value = values[i] ?? DBNull.Value;
        return this;
    }

    public int Run(params ReadOnlySpan<object?> values) => Bind(values).command.ExecuteNonQuery();

    public long? Number(params ReadOnlySpan<object?> values) => Bind(values).command.ExecuteScalar() is long number ? number : null;

    public T? One<T>(Func<SqliteDataReader, T> read, params ReadOnlySpan<object?> values) where T : class
    {
        using var reader = Bind(values).command.ExecuteReader();
        return reader.Read() ? read(reader) : null;
    }

    public List<T> All<T>(Func<SqliteDataReader, T> read, params ReadOnlySpan<object?> values)
    {
        var list = new List<T>();
        using var reader = Bind(values).command.ExecuteReader();
        while (reader.Read()) list.Add(read(reader));
        return list;
    }

    public void Dispose() => command.Dispose();
}
