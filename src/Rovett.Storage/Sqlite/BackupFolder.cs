using System.Globalization;
using System.Text.RegularExpressions;
using Microsoft.Data.Sqlite;

namespace Rovett.Storage.Sqlite;

/// <summary>A backup in a folder of backups.</summary>
/// <param name="Path">Its folder.</param>
/// <param name="Time">When it was begun.</param>
/// <param name="IsBeforeUpgrade">It was made because a newer version was about to change the store.</param>
public sealed record KeptBackup(string Path, DateTimeOffset Time, bool IsBeforeUpgrade);

/// <summary>A folder of backups of one data folder, named by their time. One that is there is whole and was checked.</summary>
/// <param name="path">The folder; made with the first backup.</param>
/// <param name="reserve">Bytes that a backup must leave free on its disk.</param>
public sealed partial class BackupFolder(string path, long reserve = 256 << 20)
{
    const string Form = "yyyyMMdd'T'HHmmss'Z'", BeforeUpgrade = "-before-upgrade", Partial = ".partial-";

    /// <summary>The folder.</summary>
    public string Path { get; } = System.IO.Path.GetFullPath(path);

    /// <summary>The backups, oldest first.</summary>
    public IReadOnlyList<KeptBackup> All() => !Directory.Exists(Path) ? [] :
        [.. Directory.EnumerateDirectories(Path).Select(Of).OfType<KeptBackup>().OrderBy(b => b.Time).ThenBy(b => b.IsBeforeUpgrade)];

    static KeptBackup? Of(string folder) => Name().Match(System.IO.Path.GetFileName(folder)) is { Success: true } match
        && DateTimeOffset.TryParseExact(match.Groups[1].Value, Form, CultureInfo.InvariantCulture, DateTimeStyles.AssumeUniversal,
            out var time)
        ? new KeptBackup(folder, time, match.Groups[2].Success) : null;

    /// <summary>Makes one.</summary>
    /// <param name="from">The data folder, in use or not.</param>
    /// <param name="now">The time it is named by.</param>
    /// <param name="isBeforeUpgrade">Whether a newer version is about to change the store.</param>
    /// <exception cref="StoreException">It could not be made, or is damaged; the message names the fix.</exception>
    public KeptBackup Make(string from, DateTimeOffset now, bool isBeforeUpgrade = false)
    {
        var name = now.UtcDateTime.ToString(Form, CultureInfo.InvariantCulture) + (isBeforeUpgrade ? BeforeUpgrade : "");
        var (partial, done) = (System.IO.Path.Combine(Path, Partial + name), System.IO.Path.Combine(Path, name));
        try
        {
            Directory.CreateDirectory(Path, DataFolderBackup.OwnFolder);
            // What a process left that died over it.
            foreach (var left in Directory.EnumerateDirectories(Path, Partial + "*")) Directory.Delete(left, recursive: true);
            RequireSpace(from);
            Directory.CreateDirectory(partial, DataFolderBackup.OwnFolder);
            DataFolderBackup.Copy(from, partial);
            var damage = DataFolderBackup.Damage(partial);
            if (damage.Count > 0)
            {
                throw new StoreException($"The copy in {partial} is damaged, and so may the store be: {damage[0]}. Check it with 'rovett " +
                    "store check'; older backups are kept.");
            }
            Directory.Move(partial, done);
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException or SqliteException)
        {
            throw new StoreException($"No backup could be made in {Path}: {error.Message} Check the folder's owner and its free space.",
                error);
        }
        return new KeptBackup(done, now, isBeforeUpgrade);
    }

    /// <summary>A disk that a backup fills would stop a service that stores on it.</summary>
    void RequireSpace(string from)
    {
        long needed = DataFolderBackup.Databases.Sum(name => new FileInfo(System.IO.Path.Combine(from, name)).Length) + reserve,
            free = new DriveInfo(Path).AvailableFreeSpace;
        if (free >= needed) return;
        throw new IOException($"It needs {needed >> 20} MiB, of which {reserve >> 20} are to be left, and {free >> 20} MiB are free.");
    }

    /// <summary>Deletes old ones.</summary>
    /// <param name="keep">How many are kept; of those made before upgrades the newest is kept besides.</param>
    /// <exception cref="IOException">One can't be deleted.</exception>
    /// <exception cref="UnauthorizedAccessException">One can't be deleted.</exception>
    public void Trim(int keep)
    {
        var all = All();
        var staying = all.TakeLast(keep).ToHashSet();
        if (all.LastOrDefault(b => b.IsBeforeUpgrade) is { } upgrade) staying.Add(upgrade);
        foreach (var old in all.Where(b => !staying.Contains(b))) Directory.Delete(old.Path, recursive: true);
    }

    [GeneratedRegex(@"^(\d{8}T\d{6}Z)(-before-upgrade)?$")]
    private static partial Regex Name();
}
