using System.Reflection;
using DbUp;
using DbUp.Engine.Output;
using Microsoft.Data.Sqlite;
using Rovett.Storage.Access;
using Rovett.Storage.Sql;
using SQLitePCL;

namespace Rovett.Storage.Sqlite;

/// <summary>Opens and migrates the files of a data folder.</summary>
public static class SqliteFiles
{
    /// <summary>The name of the history in a data folder.</summary>
    public const string HistoryName = "history.db";
    /// <summary>The name of the credentials in a data folder.</summary>
    public const string AccessName = "access.db";
    /// <summary>The name of the folder with key sets in a data folder.</summary>
    public const string KeySetsName = "keys";

    /// <summary>File permissions in a data folder: only the owner reads and writes.</summary>
    internal const UnixFileMode Own = UnixFileMode.UserRead | UnixFileMode.UserWrite;

    /// <summary>Makes a file its owner's from the first byte, also one that was not; SQLite gives the files beside it
    /// the same mode.</summary>
    internal static void MakeOwn(string path)
    {
        try
        {
            if (!File.Exists(path))
            {
                new FileStream(path, new FileStreamOptions
                { Mode = FileMode.CreateNew, Access = FileAccess.Write, UnixCreateMode = Own }).Dispose();
            }
            foreach (var file in new[] { path, path + "-wal", path + "-shm" })
            {
                if (File.Exists(file) && (File.GetUnixFileMode(file) & ~Own) != 0) File.SetUnixFileMode(file, Own);
            }
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            throw new StoreException(
                $"{path} can't be made its owner's alone (mode 0600): {error.Message}. Check who owns the data folder and its files.",
                error);
        }
    }

    /// <summary>The folders with the steps of the schemas.</summary>
    const string HistorySteps = "Sqlite.Migrations", AccessSteps = "Sqlite.AccessMigrations";

    /// <summary>The steps that a file has not had to the present schema; empty: it has it. All of them for an empty file.</summary>
    /// <exception cref="StoreException">A newer version has changed the file.</exception>
    /// <exception cref="SqliteException">It is not a database.</exception>
    public static IReadOnlyList<string> StepsAhead(string path)
    {
        using var sql = new SqliteSql(Open(path, readOnly: true));
        return StepsAhead(sql, path, Path.GetFileName(path) == AccessName ? AccessSteps : HistorySteps);
    }

    static IReadOnlyList<string> StepsAhead(SqliteSql sql, string path, string folder)
    {
        var known = SchemaSteps.In(folder);
        bool isBegun = sql.Number("SELECT count(*) FROM sqlite_master WHERE type='table' AND name='SchemaVersions'") > 0;
        var had = isBegun ? sql.All("SELECT ScriptName FROM SchemaVersions", r => r.GetString(0)) : [];
        SchemaSteps.RefuseNewer(known, had, $"The store at {path}");
        return SchemaSteps.Missing(known, had);
    }

    /// <summary>Brings a file to the present schema; each migration is one transaction.</summary>
    /// <exception cref="StoreException">The file is not a database, a newer version has changed it, or it can't be written.</exception>
    public static void Migrate(string path, string folder)
    {
        try
        {
            // EXTRA: the folder is synced too when the rollback journal of this first step is removed; a power cut could
            // otherwise bring that journal back, and with it an empty file.
            using (var sql = new SqliteSql(Open(path, readOnly: false))) StepsAhead(sql, path, folder);
            using (var probe = Open(path, readOnly: false)) Execute(probe, "PRAGMA synchronous=EXTRA; PRAGMA journal_mode=WAL");
            var result = DeployChanges.To.SqliteDatabase($"Data Source={path};Pooling=False")
                .WithScriptsEmbeddedInAssembly(Assembly.GetExecutingAssembly(),
                name => name.Contains($".{folder}.", StringComparison.Ordinal))
                .WithTransactionPerScript().LogTo(new NoOpUpgradeLog()).Build().PerformUpgrade();
            if (!result.Successful)
            {
                throw new StoreException($"The store at {path} could not be brought to the present schema: {result.Error.Message}",
                    result.Error);
            }
        }
        catch (SqliteException error)
        {
            throw new StoreException($"The store at {path} can't be opened: {error.Message}. Check the folder's owner and free space, " +
                $"or choose another with --data.", error);
        }
    }

    static SqliteFiles()
    {
        // Both are refused when something opened a file before: slower, not wrong.
        Batteries_V2.Init();
        // SQLite counts the memory it uses under one lock of the whole process, which readers on several cores wait for.
        _ = raw.sqlite3_config(raw.SQLITE_CONFIG_MEMSTATUS, 0);
        // A connection is only ever used by one thread at a time, which need not be locked out of it for each value of a row.
        _ = raw.sqlite3_config(raw.SQLITE_CONFIG_MULTITHREAD);
    }

    /// <summary>Opens a connection with the settings every part relies on.</summary>
    public static SqliteConnection Open(string path, bool readOnly)
    {
        // The time-out is that of busy_timeout; the driver's own, half a minute, would be waited for after it.
        var connection =
            new SqliteConnection($"Data Source={path};Pooling=False;Default Timeout=1;Mode={(readOnly ? "ReadOnly" : "ReadWriteCreate")}");
        connection.Open();
        // Plans don't depend on the values bound. Without it, a statement with LIMIT ? is compiled anew each time it is bound.
        _ = raw.sqlite3_db_config(connection.Handle!, raw.SQLITE_DBCONFIG_ENABLE_QPSG, 1, out _);
        // FULL: a commit returns once the WAL is synced, so that it survives a power cut.
        Execute(connection, "PRAGMA busy_timeout=5000; PRAGMA synchronous=FULL; PRAGMA temp_store=MEMORY");
        // What is deleted is overwritten: an erased person's texts must not be readable in the file.
        if (!readOnly) Execute(connection, "PRAGMA secure_delete=ON");
        // Readers are several, and what they miss lies in the system's cache.
        Execute(connection, readOnly ? "PRAGMA cache_size=-4000" : "PRAGMA cache_size=-16000");
        return connection;
    }

    /// <summary>Opens (and on the first start makes) the history at a path.</summary>
    /// <param name="path">The file.</param>
    /// <param name="checkpointsBeside">A thread of its own makes the checkpoints, and no commit.</param>
    /// <param name="failed">Hears why a checkpoint could not be made; each is tried again.</param>
    /// <exception cref="StoreException">It can't be used; the message names the fix.</exception>
    public static SqlLedgerStore OpenHistory(string path, bool checkpointsBeside = false, Action<Exception>? failed = null)
    {
        MakeOwn(path);
        Migrate(path, HistorySteps);
        var connection = Open(path, readOnly: false);
        if (!checkpointsBeside) return new SqlLedgerStore(new SqliteSql(connection));
        Execute(connection, "PRAGMA wal_autocheckpoint=0");
        return new SqlLedgerStore(new SqliteSql(connection, new SqliteCheckpoints(path, failed)));
    }

    /// <summary>Opens (and on the first start makes) the credentials at a path.</summary>
    /// <exception cref="StoreException">They can't be used; the message names the fix.</exception>
    public static AccessStore OpenAccess(string path)
    {
        MakeOwn(path);
        Migrate(path, AccessSteps);
        return new AccessStore(new SqliteAccess(Open(path, readOnly: false)));
    }

    /// <summary>Opens the connect tickets in the file of the credentials, which must be open already.</summary>
    public static TicketStore OpenTickets(string path)
    {
        var connection = Open(path, readOnly: false);
        Execute(connection, "PRAGMA synchronous=NORMAL");
        return new TicketStore(new SqliteAccess(connection));
    }

    /// <summary>Reads the history at a path beside its writer.</summary>
    public static SqlHistory ReadHistory(string path) => new(() => new SqliteSql(Open(path, readOnly: true)));

    /// <summary>Gives a history another life: cursors and idempotency answers of the one before are no longer valid.</summary>
    public static Epoch NewEpoch(string path)
    {
        var epoch = Epoch.New();
        using var connection = Open(path, readOnly: false);
        Execute(connection, $"UPDATE store SET epoch='{epoch}'; DELETE FROM answer");
        return epoch;
    }

    /// <summary>Errors that SQLite's check finds in a file; empty when it is sound.</summary>
    public static IReadOnlyList<string> Integrity(string path)
    {
        try
        {
            using var sql = new SqliteSql(Open(path, readOnly: true));
            return [.. sql.All("PRAGMA integrity_check", r => r.GetString(0)).Where(line => line != "ok")];
        }
        catch (SqliteException error)
        {
            return [error.Message];
        }
    }

    internal static void Execute(SqliteConnection connection, string sql)
    {
        using var command = connection.CreateCommand();
        command.CommandText = sql;
        command.ExecuteNonQuery();
    }
}
