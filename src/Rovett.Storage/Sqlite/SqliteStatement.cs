using System.Buffers;
using System.Collections;
using System.Data.Common;
using System.Text;
using Microsoft.Data.Sqlite;
using SQLitePCL;

namespace Rovett.Storage.Sqlite;

/// <summary>A prepared statement, bound by number. The driver's own commands look every parameter up by its name, and make a reader with a
/// dozen objects for each execution: more than SQLite's work for the short statements that the history is made of.
/// A row is read while it is the present one. Not thread-safe.</summary>
sealed class SqliteStatement : DbDataReader
{
    readonly sqlite3 database;
    readonly sqlite3_stmt statement;

    /// <summary>Prepares a statement.</summary>
    /// <exception cref="SqliteException">It can't be prepared.</exception>
    public SqliteStatement(SqliteConnection connection, string sql)
    {
        database = connection.Handle!;
        Check(raw.sqlite3_prepare_v3(database, sql, (uint)raw.SQLITE_PREPARE_PERSISTENT, out statement));
    }

    /// <summary>Binds what stands at <c>?1</c>, <c>?2</c> …; what is bound stays until it is bound anew.</summary>
    public void Bind(ReadOnlySpan<object?> values)
    {
        for (int i = 0; i < values.Length; i++)
        {
            int at = i + 1;
            Check(values[i] switch
            {
                null => raw.sqlite3_bind_null(statement, at),
                long number => raw.sqlite3_bind_int64(statement, at, number),
                int number => raw.sqlite3_bind_int64(statement, at, number),
                byte[] bytes =>
                    bytes.Length == 0 ? raw.sqlite3_bind_zeroblob(statement, at, 0) : raw.sqlite3_bind_blob(statement, at, bytes),
                string text => Bind(at, text),
                var other => throw new ArgumentException($"{other.GetType().Name} is nothing that the store keeps."),
            });
        }
    }

    int Bind(int at, string text)
    {
        if (text.Length == 0) return raw.sqlite3_bind_text(statement, at, text); // no bytes at all would be null
        const int small = 512;
        int most = Encoding.UTF8.GetMaxByteCount(text.Length);
        if (most <= small)
        {
            Span<byte> few = stackalloc byte[small];
            return raw.sqlite3_bind_text(statement, at, few[..Encoding.UTF8.GetBytes(text, few)]);
        }
        var rented = ArrayPool<byte>.Shared.Rent(most);
        try
        {
            return raw.sqlite3_bind_text(statement, at, rented.AsSpan(0, Encoding.UTF8.GetBytes(text, rented)));
        }
        finally
        {
            ArrayPool<byte>.Shared.Return(rented);
        }
    }

    /// <summary>Goes on to the next row.</summary>
    /// <returns>False when there is none; it must be reset then, and before it is bound again.</returns>
    /// <exception cref="SqliteException">The store can't be read or written.</exception>
    public override bool Read()
    {
        int result = raw.sqlite3_step(statement);
        if (result == raw.SQLITE_ROW) return true;
        if (result == raw.SQLITE_DONE) return false;
        Reset();
        Check(result);
        return false;
    }

    /// <summary>Ends an execution.</summary>
    public void Reset() => raw.sqlite3_reset(statement);

    void Check(int result)
    {
        if (result != raw.SQLITE_OK) SqliteException.ThrowExceptionForRC(result, database);
    }

    /// <inheritdoc/>
    public override long GetInt64(int ordinal) => raw.sqlite3_column_int64(statement, ordinal);

    /// <inheritdoc/>
    public override string GetString(int ordinal) => raw.sqlite3_column_text(statement, ordinal).utf8_to_string();

    /// <inheritdoc/>
    public override bool IsDBNull(int ordinal) => raw.sqlite3_column_type(statement, ordinal) == raw.SQLITE_NULL;

    /// <summary>Whether the value is a whole number.</summary>
    public bool IsNumber(int ordinal) => raw.sqlite3_column_type(statement, ordinal) == raw.SQLITE_INTEGER;

    /// <inheritdoc/>
    public override T GetFieldValue<T>(int ordinal) => typeof(T) == typeof(byte[])
        ? (T)(object)raw.sqlite3_column_blob(statement, ordinal).ToArray()
        : throw new NotSupportedException($"Rows give numbers, texts and bytes, not {typeof(T).Name}.");

    /// <inheritdoc/>
    public override long GetBytes(int ordinal, long dataOffset, byte[]? buffer, int bufferOffset, int length)
    {
        var part = raw.sqlite3_column_blob(statement, ordinal)[(int)dataOffset..];
        if (part.Length > length) part = part[..length];
        part.CopyTo(buffer.AsSpan(bufferOffset));
        return part.Length;
    }

    /// <inheritdoc/>
    protected override void Dispose(bool disposing)
    {
        if (disposing) statement.Dispose();
        base.Dispose(disposing);
    }

    // The rest of what readers can do is not needed here.
    static NotSupportedException Unused() => new("Rows are read by GetInt64, GetString, IsDBNull, GetBytes and GetFieldValue<byte[]>.");

    public override object this[int ordinal] => throw Unused();
    public override object this[string name] => throw Unused();
    public override int Depth => 0;
    public override int FieldCount => raw.sqlite3_column_count(statement);
    public override bool HasRows => throw Unused();
    public override bool IsClosed => false;
    public override int RecordsAffected => throw Unused();
    public override bool GetBoolean(int ordinal) => throw Unused();
    public override byte GetByte(int ordinal) => throw Unused();
    public override char GetChar(int ordinal) => throw Unused();
    public override long GetChars(int ordinal, long dataOffset, char[]? buffer, int bufferOffset, int length) => throw Unused();
    public override string GetDataTypeName(int ordinal) => throw Unused();
    public override DateTime GetDateTime(int ordinal) => throw Unused();
    public override decimal GetDecimal(int ordinal) => throw Unused();
    public override double GetDouble(int ordinal) => throw Unused();
    public override IEnumerator GetEnumerator() => throw Unused();
    public override Type GetFieldType(int ordinal) => throw Unused();
    public override float GetFloat(int ordinal) => throw Unused();
    public override Guid GetGuid(int ordinal) => throw Unused();
    public override short GetInt16(int ordinal) => throw Unused();
    public override int GetInt32(int ordinal) => throw Unused();
    public override string GetName(int ordinal) => throw Unused();
    public override int GetOrdinal(string name) => throw Unused();
    public override object GetValue(int ordinal) => throw Unused();
    public override int GetValues(object[] values) => throw Unused();
    public override bool NextResult() => false;
}
