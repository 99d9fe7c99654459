using Microsoft.Data.Sqlite;

namespace Rovett.Storage.Sqlite;

/// <summary>Moves what was committed from the write-ahead log into the database file, on a thread and a connection of its own, so
/// that no commit does it. A commit waits for it only when the log has grown long under a load without pause.</summary>
public sealed class SqliteCheckpoints : IDisposable
{
    static readonly TimeSpan Pause = TimeSpan.FromMilliseconds(500);
    const long LongLog = 16 * 1024; // pages: 64 MiB

    readonly SqliteConnection connection;
    readonly ManualResetEventSlim stop = new();
    readonly Thread thread;
    readonly Action<Exception>? failed;
    volatile bool committed, truncate;

    /// <summary>Begins, beside the writer of the file.</summary>
    /// <param name="path">The file.</param>
    /// <param name="failed">Hears why a checkpoint could not be made; each is tried again.</param>
    public SqliteCheckpoints(string path, Action<Exception>? failed = null)
    {
        this.failed = failed;
        connection = SqliteFiles.Open(path, readOnly: false);
        SqliteFiles.Execute(connection, "PRAGMA busy_timeout=50"); // a restart that waits for a long read holds up the writer
        thread = new Thread(Run) { Name = "checkpoints", IsBackground = true };
        thread.Start();
    }

    /// <summary>The writer committed something.</summary>
    public void Committed() => committed = true;

    /// <summary>The log is to be emptied once everything is moved: what was overwritten in the file must not be readable there.</summary>
    public void Truncate() => truncate = true;

    void Run()
    {
        while (!stop.Wait(Pause))
        {
            if (truncate) TryTruncate();
            if (!committed) continue;
            committed = false;
            try
            {
                if (Checkpoint("PASSIVE") is var (pages, moved) && pages - moved > 0) committed = true;
                // Passive ones never start the log anew while somebody writes all the time.
                if (pages > LongLog) Checkpoint("RESTART");
            }
            catch (Exception error)
            {
                // Mostly the disk is full, or can't be written: the log keeps everything, and this is tried again.
                committed = true;
                if (error is not SqliteException { SqliteErrorCode: SQLitePCL.raw.SQLITE_BUSY }) failed?.Invoke(error);
            }
        }
    }

    void TryTruncate()
    {
        try
        {
            // Waits for a moment in which nobody reads what is moved; tried again until there was one.
            truncate = Checkpoint("TRUNCATE", out bool busy) is var _ && busy;
        }
        catch (Exception error)
        {
            if (error is not SqliteException { SqliteErrorCode: SQLitePCL.raw.SQLITE_BUSY }) failed?.Invoke(error);
        }
    }

    (long Pages, long Moved) Checkpoint(string mode) => Checkpoint(mode, out _);

    (long Pages, long Moved) Checkpoint(string mode, out bool busy)
    {
        using var command = connection.CreateCommand();
        command.CommandText = $"PRAGMA wal_checkpoint({mode})";
        using var reader = command.ExecuteReader();
        busy = !reader.Read() || reader.GetInt64(0) != 0;
        return busy && reader.IsClosed ? (0, 0) : (reader.GetInt64(1), reader.GetInt64(2));
    }

    /// <summary>Ends; what is left is moved when the writer closes the file.</summary>
    public void Dispose()
    {
        stop.Set();
        thread.Join();
        connection.Dispose();
        stop.Dispose();
    }
}
