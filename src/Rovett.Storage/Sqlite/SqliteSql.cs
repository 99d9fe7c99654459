using System.Data.Common;
using Microsoft.Data.Sqlite;
using Microsoft.Win32.SafeHandles;
using Rovett.Core.Store;
using Rovett.Storage.Sql;

namespace Rovett.Storage.Sqlite;

/// <summary>A SQLite connection with prepared statements.</summary>
/// <param name="connection">The connection, which it closes.</param>
/// <param name="checkpoints">Of the file, when something else than its commits makes them; ended with it.</param>
public class SqliteSql(SqliteConnection connection, SqliteCheckpoints? checkpoints = null) : ISql
{
    readonly Dictionary<string, SqliteStatement> statements = [];
    bool? begins; // the next statement begins a transaction; true: its commit waits for the disk
    bool lasts = true; // as connections are opened
    bool? hasLog; // a write-ahead log
    SafeFileHandle? log;

    /// <inheritdoc/>
    /// <remarks>The first statement begins the transaction. A session whose user is in memory usually connects without one.</remarks>
    public void Begin(bool lasting = true) => begins = lasting;

    void BeginNow(bool lasting)
    {
        lasting |= !(hasLog ??= One("PRAGMA journal_mode", r => r.GetString(0)) == "wal"); // without one, each commit syncs
        // Refused within a transaction.
        if (lasting != lasts) SqliteFiles.Execute(connection, lasting ? "PRAGMA synchronous=FULL" : "PRAGMA synchronous=NORMAL");
        lasts = lasting;
        Run("BEGIN IMMEDIATE");
    }

    /// <inheritdoc/>
    public void BeginReading() => Run("BEGIN");

    /// <inheritdoc/>
    public void Commit(IReadOnlyList<int>? spaces = null)
    {
        if (HasNotBegun()) return;
        Run("COMMIT");
        checkpoints?.Committed();
    }

    /// <inheritdoc/>
    public void Sync(IReadOnlyList<int>? spaces = null)
    {
        if (!lasts)
        {
            RandomAccess.FlushToDisk(
                log ??= File.OpenHandle(connection.DataSource + "-wal", FileMode.Open, FileAccess.ReadWrite,
                FileShare.ReadWrite | FileShare.Delete));
        }
    }

    /// <inheritdoc/>
    public void Own(int space)
    {
        // There is one writer of a file.
    }

    /// <inheritdoc/>
    public IReadOnlyList<int> Changed() => [];

    /// <inheritdoc/>
    public DeposedException? Deposed(IReadOnlyList<int> spaces) => null;

    /// <inheritdoc/>
    public virtual (long From, long To) Numbers(string table) => ((Number($"SELECT max(id) FROM {table}") ?? 0) + 1, long.MaxValue);

    /// <inheritdoc/>
    public void Rollback()
    {
        if (HasNotBegun()) return;
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
    public void ScrubFreed() => checkpoints?.Truncate();

    /// <inheritdoc/>
    public void Run(string sql, params ReadOnlySpan<object?> values)
    {
        var statement = Bound(sql, values);
        while (statement.Read())
        {
        }
        statement.Reset();
    }

    /// <inheritdoc/>
    public void Run(RowStatement statement, params ReadOnlySpan<object?> values) => Run(statement.One, values);

    /// <inheritdoc/>
    public bool IsRemote => false;

    /// <inheritdoc/>
    public void Ask(IReadOnlyList<Question> questions)
    {
        foreach (var question in questions)
        {
            All(question.Sql, r =>
            {
                question.Row(r);
                return 0;
            }, question.Values);
        }
    }

    /// <inheritdoc/>
    public long? Number(string sql, params ReadOnlySpan<object?> values)
    {
        var statement = Bound(sql, values);
        long? number = statement.Read() && statement.IsNumber(0) ? statement.GetInt64(0) : null;
        statement.Reset();
        return number;
    }

    /// <inheritdoc/>
    public T? One<T>(string sql, Func<DbDataReader, T> read, params ReadOnlySpan<object?> values) where T : class
    {
        var statement = Bound(sql, values);
        try
        {
            return statement.Read() ? read(statement) : null;
        }
        finally
        {
            statement.Reset();
        }
    }

    /// <inheritdoc/>
    public List<T> All<T>(string sql, Func<DbDataReader, T> read, params ReadOnlySpan<object?> values)
    {
        var list = new List<T>();
        var statement = Bound(sql, values);
        try
        {
            while (statement.Read()) list.Add(read(statement));
        }
        finally
        {
            statement.Reset();
        }
        return list;
    }

    /// <summary>Whether a transaction was to begin and had no statement; it is then forgotten.</summary>
    bool HasNotBegun()
    {
        bool hasNot = begins is not null;
        begins = null;
        return hasNot;
    }

    SqliteStatement Bound(string sql, ReadOnlySpan<object?> values)
    {
        if (begins is { } lasting)
        {
            begins = null;
            BeginNow(lasting);
        }
        if (!statements.TryGetValue(sql, out var statement)) statements[sql] = statement = new SqliteStatement(connection, sql);
        statement.Bind(values);
        return statement;
    }

    /// <inheritdoc/>
    public void Dispose()
    {
        checkpoints?.Dispose();
        log?.Dispose();
        foreach (var statement in statements.Values) statement.Dispose();
        connection.Dispose();
        GC.SuppressFinalize(this);
    }
}
