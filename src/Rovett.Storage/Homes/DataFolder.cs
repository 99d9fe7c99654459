using Microsoft.Data.Sqlite;
using Rovett.Core.Store;
using Rovett.Storage.Access;
using Rovett.Storage.Sql;
using Rovett.Storage.Sqlite;

namespace Rovett.Storage.Homes;

/// <summary>A data folder, held by one process.</summary>
public sealed class DataFolder : IStoreHome
{
    readonly DataFolderLock held;

    /// <summary>Makes the folder if it is missing, and takes it.</summary>
    /// <param name="path">The folder.</param>
    /// <param name="beforeUpgrade">Makes a backup of a store that this version is about to change; null: none is made.</param>
    /// <exception cref="StoreException">Another process uses it, it can't be made, a newer version has changed it, or the backup could not
    /// be made.</exception>
    public DataFolder(string path, Func<KeptBackup>? beforeUpgrade = null)
    {
        Name = path;
        Directory.CreateDirectory(path, UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute);
        held = DataFolderLock.Take(path);
        try
        {
            FolderSide.RequireSettled(path);
            if (!DataFolderBackup.Databases.All(name => File.Exists(Path.Combine(path, name)))) return;
            IsUpgraded = IsOfEarlierVersion(path);
            if (IsUpgraded) BackupBeforeUpgrade = beforeUpgrade?.Invoke();
        }
        catch
        {
            held.Dispose();
            throw;
        }
    }

    static bool IsOfEarlierVersion(string path)
    {
        try
        {
            return DataFolderBackup.IsOfEarlierVersion(path);
        }
        catch (SqliteException)
        {
            return false; // what can't be read is told when it is opened
        }
    }

    /// <summary>The store is of an earlier version, which this one brings to the present schema.</summary>
    public bool IsUpgraded { get; }

    /// <summary>The backup that was made before; null: none.</summary>
    public KeptBackup? BackupBeforeUpgrade { get; }

    /// <inheritdoc/>
    public string Name { get; }

    string History => Path.Combine(Name, SqliteFiles.HistoryName);

    string Access => Path.Combine(Name, SqliteFiles.AccessName);

    /// <inheritdoc/>
    public IReadOnlyList<SqlLedgerStore> OpenHistory(int lanes, Action<Exception> failed) =>
        [SqliteFiles.OpenHistory(History, checkpointsBeside: true, failed)];

    /// <inheritdoc/>
    public Action<StoreException>? Lost { get; set; }

    /// <inheritdoc/>
    public SqlHistory ReadHistory() => SqliteFiles.ReadHistory(History);

    /// <inheritdoc/>
    public AccessStore OpenAccess() => SqliteFiles.OpenAccess(Access);

    /// <inheritdoc/>
    public TicketStore OpenTickets() => SqliteFiles.OpenTickets(Access);

    /// <inheritdoc/>
    public IAccessWatch? Watch() => null; // the folder's lock keeps others out

    /// <inheritdoc/>
    public SpaceRow? AddSpace(string name, byte[] key) => null;

    /// <inheritdoc/>
    public void EndFirstTurn() { }

    /// <inheritdoc/>
    public long HistoryBytes() => new DirectoryInfo(Name).EnumerateFiles(SqliteFiles.HistoryName + "*").Sum(f => f.Length);

    /// <inheritdoc/>
    public long? LogBytes() => new FileInfo(Path.Combine(Name, SqliteFiles.HistoryName + "-wal")) is { Exists: true } log ? log.Length : 0;

    /// <inheritdoc/>
    public long? FreeBytes() => new DriveInfo(Name).AvailableFreeSpace;

    /// <inheritdoc/>
    public void Dispose() => held.Dispose();
}
