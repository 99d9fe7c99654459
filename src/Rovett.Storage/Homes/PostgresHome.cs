using System.Diagnostics;
using System.Globalization;
using System.Security.Cryptography;
using Npgsql;
using Rovett.Core.Store;
using Rovett.Storage.Access;
using Rovett.Storage.Postgres;
using Rovett.Storage.Sql;

namespace Rovett.Storage.Homes;

/// <summary>A PostgreSQL database with everything that the service stores. One process writes to it, or several nodes, each to spaces of
/// its own.</summary>
public sealed class PostgresHome : IStoreHome
{
    static readonly TimeSpan BetweenSizes = TimeSpan.FromSeconds(15);
    // Two processes that make the first spaces, or their credentials, at once would make them twice.
    const long FirstLock = 0x726f_7665_7477;

    readonly string connectionString, settings;
    readonly Guid? node;
    readonly Lock gate = new();
    long asked, size;
    PostgresHold? hold;
    PostgresStatistics? statistics;
    NpgsqlConnection? turn;

    /// <param name="connectionString">As Npgsql reads it: <c>Host=…;Database=…;Username=…</c>.</param>
    /// <param name="node">What this process is called as one of several nodes; null: it has the database alone.</param>
    public PostgresHome(string connectionString, Guid? node = null)
    {
        this.node = node;
        // By their name others see whether the process has connections.
        this.connectionString = node is { } of
            ? new NpgsqlConnectionStringBuilder(connectionString) { ApplicationName = PostgresNode.NameOf(of) }.ConnectionString
            : connectionString;
        settings = PostgresHistory.Settings(this.connectionString);
    }

    /// <inheritdoc/>
    public string Name
    {
        get
        {
            var parts = new NpgsqlConnectionStringBuilder(connectionString);
            return string.Create(CultureInfo.InvariantCulture, $"PostgreSQL {parts.Host}:{parts.Port}/{parts.Database}");
        }
    }

    /// <summary>What is wrong with a connection string; null: it can be used.</summary>
    public static string? Mistake(string connectionString)
    {
        try
        {
            var parts = new NpgsqlConnectionStringBuilder(connectionString);
            return string.IsNullOrEmpty(parts.Host) ? "names no Host" : string.IsNullOrEmpty(parts.Database) ? "names no Database" : null;
        }
        catch (Exception error) when (error is ArgumentException or FormatException or OverflowException)
        {
            return error.Message; // names the setting, not its value
        }
    }

    /// <summary>Refuses a pooler that gives each transaction another connection.</summary>
    /// <param name="connectionString">As Npgsql reads it.</param>
    /// <exception cref="StoreException">There is one; the message names the fix.</exception>
    public static void RequireLasting(string connectionString) =>
        PostgresPooling.RequireLasting(PostgresHistory.Settings(connectionString));

    /// <inheritdoc/>
    public IReadOnlyList<SqlLedgerStore> OpenHistory(int lanes, Action<Exception> failed)
    {
        hold = PostgresHistory.Hold(connectionString, look => DatabaseSide.RequireSettled(look, Name), node);
        hold.LostCommits = e => Lost?.Invoke(e);
        BeginFirstTurn();
        if (turn is not null) MakeStore();
        statistics = new PostgresStatistics(settings, failed);
        return PostgresHistory.Open(connectionString, hold, lanes, statistics: statistics);
    }

    /// <inheritdoc/>
    public Action<StoreException>? Lost { get; set; }

    /// <summary>Joins the nodes that share the database. The history must be open already.</summary>
    /// <param name="url">Where the other nodes reach this one.</param>
    /// <param name="version">The program's version.</param>
    /// <param name="certificate">SHA-256 of what it shows the others; null: it talks without TLS.</param>
    /// <exception cref="StoreException">It can't be used; the message names the fix.</exception>
    public PostgresNode Join(string url, string version, byte[]? certificate)
    {
        try
        {
            return new PostgresNode(settings, node!.Value, url, version, certificate);
        }
        catch (NpgsqlException error)
        {
            throw PostgresHistory.Unusable(error);
        }
    }

    /// <summary>What other nodes found makes this process end.</summary>
    public void EndsWith(StoreException why) => hold!.EndsWith(why);

    /// <summary>Keeps other nodes from making first spaces and credentials.</summary>
    void BeginFirstTurn()
    {
        if (node is null) return;
        turn = new NpgsqlConnection(settings);
        turn.Open();
        PostgresSql.Execute(turn, $"SELECT pg_advisory_lock({FirstLock})");
    }

    /// <inheritdoc/>
    public void EndFirstTurn()
    {
        PostgresSql.Close(turn); // not pooled: the lock goes with it
        turn = null;
    }

    /// <inheritdoc/>
    public SpaceRow? AddSpace(string name, byte[] key)
    {
        if (turn is null) return null;
        using var add = new NpgsqlCommand("INSERT INTO space (id, name, key) SELECT coalesce(max(id), 0)+1, $1, $2 FROM space RETURNING id",
            turn)
        { Parameters = { new() { Value = name }, new() { Value = key } } };
        return new SpaceRow((int)(long)add.ExecuteScalar()!, name, key, 0, default, 0);
    }

    void MakeStore()
    {
        using var make = new NpgsqlCommand("INSERT INTO store (epoch) SELECT $1 WHERE NOT EXISTS (SELECT 1 FROM store)", turn)
        { Parameters = { new() { Value = Epoch.New().ToString() } } };
        if (make.ExecuteNonQuery() > 0) AddSpace("main", RandomNumberGenerator.GetBytes(32));
    }

    /// <inheritdoc/>
    public SqlHistory ReadHistory() => PostgresHistory.Read(connectionString);

    /// <inheritdoc/>
    public AccessStore OpenAccess() => new(new PostgresAccess(settings));

    /// <inheritdoc/>
    public TicketStore OpenTickets() => new(new PostgresAccess(settings, lasting: false));

    /// <inheritdoc/>
    public IAccessWatch Watch()
    {
        try
        {
            return new PostgresWatch(settings);
        }
        catch (NpgsqlException error)
        {
            throw PostgresHistory.Unusable(error);
        }
    }

    /// <inheritdoc/>
    /// <remarks>Asked of the server every 15 s at most; while it can't be reached, as it was last.</remarks>
    public long HistoryBytes()
    {
        lock (gate)
        {
            if (asked != 0 && Stopwatch.GetElapsedTime(asked) < BetweenSizes) return size;
            asked = Stopwatch.GetTimestamp();
            try
            {
                using var connection = new NpgsqlConnection(settings);
                connection.Open();
                using var ask = new NpgsqlCommand("SELECT pg_database_size(current_database())", connection);
                size = (long)ask.ExecuteScalar()!;
            }
            catch (NpgsqlException)
            {
                // Whoever writes tells of it.
            }
            return size;
        }
    }

    /// <inheritdoc/>
    public long? LogBytes() => null;

    /// <inheritdoc/>
    public long? FreeBytes() => null;

    /// <inheritdoc/>
    public void Dispose()
    {
        EndFirstTurn();
        statistics?.Dispose();
        hold?.Dispose();
    }
}
