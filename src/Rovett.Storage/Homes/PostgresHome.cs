using System.Diagnostics;
using System.Globalization;
using Npgsql;
using Rovett.Storage.Access;
using Rovett.Storage.Postgres;
using Rovett.Storage.Sql;

namespace Rovett.Storage.Homes;

/// <summary>A PostgreSQL database with everything that the service stores. One process writes to it.</summary>
/// <param name="connectionString">As Npgsql reads it: <c>Host=…;Database=…;Username=…</c>.</param>
public sealed class PostgresHome(string connectionString) : IStoreHome
{
    static readonly TimeSpan BetweenSizes = TimeSpan.FromSeconds(15);

    readonly string settings = PostgresHistory.Settings(connectionString);
    readonly Lock gate = new();
    long asked, size;
    PostgresHold? hold;

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

    /// <inheritdoc/>
    public IReadOnlyList<SqlLedgerStore> OpenHistory(int lanes, Action<Exception> failed)
    {
        hold = PostgresHistory.Hold(connectionString, look => DatabaseSide.RequireSettled(look, Name));
        hold.LostCommits = e => Lost?.Invoke(e);
        return PostgresHistory.Open(connectionString, hold, lanes);
    }

    /// <inheritdoc/>
    public Action<StoreException>? Lost { get; set; }

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
    public long? FreeBytes() => null;

    /// <inheritdoc/>
    public void Dispose() => hold?.Dispose();
}
