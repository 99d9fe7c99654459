using System.Data;
using Npgsql;

namespace Rovett.Storage.Postgres;

/// <summary>Says that this process, and no other, writes to a database: a lock that its own connection holds for as long as it lives.
/// It keeps two services apart; that nothing is written by two is seen to by the terms of the spaces. Thread-safe.</summary>
public sealed class PostgresHold : IDisposable
{
    // Older builds take the first alone; processes of this one share it and take the second alone.
    internal const long WriterLock = 0x726f_7665_7474, HoldLock = 0x726f_7665_7476;

    readonly string settings;
    readonly bool alone;
    readonly Lock gate = new();
    NpgsqlConnection? connection;

    /// <summary>Takes it.</summary>
    /// <exception cref="StoreException">Another service has it.</exception>
    /// <param name="settings">The connection string.</param>
    /// <param name="alone">False: beside others, for which the terms are there.</param>
    /// <param name="node">What this process is called as one of several nodes; null: it is none.</param>
    public PostgresHold(string settings, bool alone = true, Guid? node = null)
    {
        (this.settings, this.alone) = (settings, alone && node is null);
        (Incarnation, IsNode) = (node ?? Guid.NewGuid(), node is not null);
        Confirm();
    }

    /// <summary>What this process is called in the terms.</summary>
    public Guid Incarnation { get; }

    /// <summary>Spaces are given to this process, and not taken by whoever writes to them.</summary>
    internal bool IsNode { get; }

    /// <summary>Makes sure that it is held.</summary>
    /// <exception cref="StoreException">Another service has it.</exception>
    public void Confirm()
    {
        lock (gate)
        {
            if (over is not null) throw over;
            if (!alone) return;
            if (connection?.State == ConnectionState.Open && Answers(connection)) return;
            PostgresSql.Close(connection);
            connection = null;
            var made = new NpgsqlConnection(settings);
            try
            {
                made.Open();
                // Waits a little: an earlier connection of ours that the server has not noticed to be gone holds the lock still.
                PostgresSql.Execute(made, $"SET lock_timeout='3s'; SELECT pg_advisory_lock({HoldLock})");
                connection = made;
            }
            catch (PostgresException error) when (error.SqlState == PostgresErrorCodes.LockNotAvailable)
            {
                made.Dispose();
                throw Taken(error);
            }
            catch
            {
                made.Dispose();
                throw;
            }
        }
    }

    /// <summary>Commits that were on disk are no longer stored: the server is another one, which lags behind. The store begins a new
    /// life, so that devices, which have seen more than is stored, are told; this process takes nothing any more.</summary>
    /// <returns>What is to be thrown.</returns>
    internal StoreException HasLostCommits(NpgsqlConnection connection)
    {
        lock (gate)
        {
            if (over is not null) return over;
            // Of several nodes that see it, each makes a new one; the last holds, as all start anew.
            var epoch = Epoch.New();
            PostgresSql.Execute(connection, $"BEGIN; UPDATE store SET epoch='{epoch}'; DELETE FROM answer; COMMIT");
            over = new StoreException("The database lost commits that it had confirmed, as by a fail-over to a server that lagged " +
                $"behind. The store's new life is {epoch}: the service must start anew, and devices are told that they may have missed " +
                "something");
        }
        LostCommits?.Invoke(over);
        return over;
    }

    StoreException? over;

    /// <summary>Is told when commits were lost: this process must end.</summary>
    public Action<StoreException>? LostCommits { get; set; }

    /// <summary>Another node found that commits were lost: this process must end as well.</summary>
    internal void EndsWith(StoreException why)
    {
        lock (gate) over ??= why;
        LostCommits?.Invoke(why);
    }

    internal static StoreException Taken(PostgresException error) =>
        new("Another service writes to this database. Stop it, or give each a database of its own.", error);

    static bool Answers(NpgsqlConnection connection)
    {
        try
        {
            PostgresSql.Execute(connection, "SELECT 1");
            return true;
        }
        catch (NpgsqlException)
        {
            return false;
        }
    }

    /// <inheritdoc/>
    public void Dispose()
    {
        lock (gate) PostgresSql.Close(connection);
    }
}
