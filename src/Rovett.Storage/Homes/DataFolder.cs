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
    /// <exception cref="StoreException">Another process uses it, or it can't be made.</exception>
    public DataFolder(string path)
    {
        Name = path;
        Directory.CreateDirectory(path, UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute);
        held = DataFolderLock.Take(path);
        try
        {
            FolderSide.RequireSettled(path);
        }
        catch
        {
            held.Dispose();
            throw;
        }
    }

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
    public long? FreeBytes() => new DriveInfo(Name).AvailableFreeSpace;

    /// <inheritdoc/>
    public void Dispose() => held.Dispose();
}
