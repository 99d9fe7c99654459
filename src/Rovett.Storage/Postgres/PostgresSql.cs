using System.Data;
using System.Data.Common;
using System.Text.RegularExpressions;
using Npgsql;
using Rovett.Core.Store;
using Rovett.Storage.Sql;

namespace Rovett.Storage.Postgres;

/// <summary>A PostgreSQL connection. Writes are gathered and go out with the next read, or with the commit, in one round trip.</summary>
public partial class PostgresSql(string connectionString) : ISql
{
    readonly Dictionary<string, string> statements = [];
    NpgsqlConnection? connection;
    NpgsqlBatch? waiting;
    NpgsqlTransaction? reading;
    readonly GatheredRows rows = new();

    /// <summary>How many rows, at least, were written since the transaction was begun.</summary>
    protected int Written { get; private set; }

    /// <summary>How many times the server was asked and waited for since the connection was made.</summary>
    public long RoundTrips { get; private set; }

    /// <summary>The connection holds, as far as is known.</summary>
    protected bool IsOpen => connection?.State == ConnectionState.Open;

    /// <summary>Connects, or connects anew.</summary>
    /// <exception cref="NpgsqlException">The server can't be reached.</exception>
    public void Connect()
    {
        Close(connection);
        connection = null;
        waiting = null;
        reading = null;
        rows.Clear();
        var made = new NpgsqlConnection(connectionString);
        try
        {
            made.Open();
            Connected(made);
            connection = made;
        }
        catch
        {
            made.Dispose();
            throw;
        }
    }

    /// <summary>Has the connection ready for what it is for.</summary>
    protected virtual void Connected(NpgsqlConnection made) { }

    /// <summary>Closes a connection that may be broken.</summary>
    internal static void Close(NpgsqlConnection? connection)
    {
        try
        {
            connection?.Dispose();
        }
        catch (Exception error) when (error is DbException or IOException)
        {
            // It is gone.
        }
    }

    internal static void Execute(NpgsqlConnection connection, string sql)
    {
        using var command = new NpgsqlCommand(sql, connection);
        command.ExecuteNonQuery();
    }

    /// <inheritdoc/>
    public virtual void Begin(bool lasting = true)
    {
        if (!IsOpen) Connect();
        Written = 0;
        Defer("BEGIN", []);
        if (!lasting) Defer("SET LOCAL synchronous_commit=off", []);
    }

    /// <inheritdoc/>
    public void Sync(IReadOnlyList<int>? spaces = null)
    {
        Begin();
        Written = 1; // the end of the batch is
        Commit(spaces);
    }

    /// <inheritdoc/>
    public void BeginReading()
    {
        if (!IsOpen) Connect();
        // Goes out with the first query. Not as a statement of a batch: the driver writes the second of a batch on the thread pool, whose
        // threads may all be waiting for their turn to read.
        reading = connection!.BeginTransaction(IsolationLevel.RepeatableRead);
    }

    /// <inheritdoc/>
    public virtual void Commit(IReadOnlyList<int>? spaces = null)
    {
        if (reading is not null)
        {
            reading.Commit();
            reading = null;
            return;
        }
        Defer("COMMIT", []);
        Flush();
    }

    /// <inheritdoc/>
    public virtual void Own(int space) { }

    /// <inheritdoc/>
    public virtual IReadOnlyList<int> Changed() => [];

    /// <inheritdoc/>
    public virtual DeposedException? Deposed(IReadOnlyList<int> spaces) => null;

    /// <inheritdoc/>
    public virtual (long From, long To) Numbers(string table) => throw new InvalidOperationException("It only reads.");

    /// <inheritdoc/>
    public virtual void Rollback()
    {
        waiting = null;
        reading = null;
        rows.Clear();
        if (!IsOpen) return;
        try
        {
            Execute(connection!, "ROLLBACK");
        }
        catch (Exception error) when (error is DbException or IOException or InvalidOperationException)
        {
            Close(connection); // the server forgets it with the connection
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
        Written++;
        Defer(sql, values);
    }

    /// <inheritdoc/>
    public void Run(RowStatement statement, params ReadOnlySpan<object?> values)
    {
        Written++;
        rows.Add(statement, values);
    }

    /// <inheritdoc/>
    public bool IsRemote => true;

    /// <inheritdoc/>
    public void Ask(IReadOnlyList<Question> questions)
    {
        foreach (var question in questions) Defer(question.Sql, question.Values);
        CarryOut(all =>
        {
            using var reader = all.ExecuteReader();
            for (int i = 0; i < questions.Count; i++)
            {
                if (i > 0) reader.NextResult();
                while (reader.Read()) questions[i].Row(reader);
            }
            return questions.Count;
        });
    }

    /// <inheritdoc/>
    public long? Number(string sql, params ReadOnlySpan<object?> values) =>
        Query(sql, values, static reader => reader.Read() && !reader.IsDBNull(0) ? reader.GetInt64(0) : default(long?));

    /// <inheritdoc/>
    public T? One<T>(string sql, Func<DbDataReader, T> read, params ReadOnlySpan<object?> values) where T : class =>
        Query(sql, values, reader => reader.Read() ? read(reader) : null);

    /// <inheritdoc/>
    public List<T> All<T>(string sql, Func<DbDataReader, T> read, params ReadOnlySpan<object?> values) => Query(sql, values, reader =>
    {
        var list = new List<T>();
        while (reader.Read()) list.Add(read(reader));
        return list;
    });

    T Query<T>(string sql, ReadOnlySpan<object?> values, Func<NpgsqlDataReader, T> use)
    {
        Defer(sql, values);
        return CarryOut(all =>
        {
            using var reader = all.ExecuteReader(); // of what was gathered only the query has rows
            return use(reader);
        });
    }

    /// <summary>Has what was gathered carried out.</summary>
    protected void Flush()
    {
        if (waiting is not null) CarryOut(static all => all.ExecuteNonQuery());
    }

    /// <summary>Has what was gathered carried out, in one round trip.</summary>
    T CarryOut<T>(Func<NpgsqlBatch, T> use)
    {
        var all = waiting!;
        waiting = null;
        RoundTrips++;
        try
        {
            return use(all);
        }
        catch (Exception error) when (error is NullReferenceException or ObjectDisposedException && StoreFailures.Is(error))
        {
            // The driver writes a batch while it reads the first answers. Where both find that the server has ended the connection,
            // what it throws looks like a bug.
            Close(connection);
            throw new NpgsqlException("The connection broke while it was used", error);
        }
    }

    /// <summary>Gathers a statement that gives no rows back.</summary>
    protected void Defer(string sql, ReadOnlySpan<object?> values)
    {
        if (!rows.IsEmpty) rows.Take(Add, Add);
        Add(sql, values);
    }

    void Add(string sql, ReadOnlySpan<object?> values)
    {
        var parameters = new NpgsqlParameter[values.Length];
        for (int i = 0; i < values.Length; i++) parameters[i] = new NpgsqlParameter { Value = values[i] ?? DBNull.Value };
        Add(sql, parameters);
    }

    void Add(string sql, NpgsqlParameter[] parameters)
    {
        if (!statements.TryGetValue(sql, out var text)) statements[sql] = text = Parameter().Replace(sql, "$$$1");
        waiting ??= new NpgsqlBatch(connection);
        var command = new NpgsqlBatchCommand(text);
        foreach (var parameter in parameters) command.Parameters.Add(parameter);
        waiting.BatchCommands.Add(command);
    }

    [GeneratedRegex(@"\?(\d+)")]
    private static partial Regex Parameter();

    /// <inheritdoc/>
    public virtual void Dispose()
    {
        Close(connection);
        GC.SuppressFinalize(this);
    }
}
