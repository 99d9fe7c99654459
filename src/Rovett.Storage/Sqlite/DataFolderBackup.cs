using System.Formats.Tar;
using Microsoft.Data.Sqlite;

namespace Rovett.Storage.Sqlite;

/// <summary>Copies a data folder: its databases and the key sets beside them, all as they are at one moment.</summary>
public static class DataFolderBackup
{
    /// <summary>Files that mark a data folder.</summary>
    public static IReadOnlyList<string> Databases { get; } = [SqliteFiles.HistoryName, SqliteFiles.AccessName];

    const int MostAttempts = 5;

    /// <summary>Permissions of a folder with credentials: its owner's alone.</summary>
    public const UnixFileMode OwnFolder = UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute;

    /// <summary>Copies one that is in use or not, into a folder that is empty.</summary>
    /// <exception cref="SqliteException">A database can't be read, or was held by somebody for more than 5 s.</exception>
    /// <exception cref="IOException">A file can't be copied.</exception>
    public static void Copy(string from, string to)
    {
        using var writer = SqliteFiles.Open(Path.Combine(from, SqliteFiles.AccessName), readOnly: false);
        var readers = Databases.Select(name => SqliteFiles.Open(Path.Combine(from, name), readOnly: true)).ToList();
        try
        {
            // While this holds the turn to write credentials none of them changes: what both readers see is of one moment.
            SqliteFiles.Execute(writer, "BEGIN IMMEDIATE");
            try
            {
                foreach (var reader in readers) SqliteFiles.Execute(reader, "BEGIN; SELECT count(*) FROM sqlite_master");
                CopyKeySets(from, to);
            }
            finally
            {
                SqliteFiles.Execute(writer, "ROLLBACK");
            }
            foreach (var (reader, name) in readers.Zip(Databases))
            {
                var path = Path.Combine(to, name);
                SqliteFiles.MakeOwn(path);
                using var target = new SqliteConnection($"Data Source={path};Pooling=False");
                target.Open();
                reader.BackupDatabase(target);
                SqliteFiles.Execute(target, "PRAGMA journal_mode=DELETE; VACUUM"); // one file, and nothing of what was deleted
            }
        }
        finally
        {
            foreach (var reader in readers) reader.Dispose();
        }
    }

    /// <summary>Copies a backup into a folder that is empty.</summary>
    /// <exception cref="IOException">A file can't be copied.</exception>
    public static void CopyBack(string from, string to)
    {
        foreach (var name in Databases) CopyFile(Path.Combine(from, name), Path.Combine(to, name));
        CopyKeySets(from, to);
    }

    static void CopyKeySets(string from, string to)
    {
        var source = new DirectoryInfo(Path.Combine(from, SqliteFiles.KeySetsName));
        if (!source.Exists) return;
        var target = Directory.CreateDirectory(Path.Combine(to, SqliteFiles.KeySetsName), OwnFolder);
        foreach (var file in source.EnumerateFiles())
        {
            for (int attempt = 1; ; attempt++)
            {
                var before = (file.LastWriteTimeUtc, file.Length);
                CopyFile(file.FullName, Path.Combine(target.FullName, file.Name));
                file.Refresh();
                if ((file.LastWriteTimeUtc, file.Length) == before) break;
                if (attempt == MostAttempts) throw new IOException($"'{file.FullName}' is changed all the time.");
            }
        }
    }

    /// <summary>Writes a backup as one stream: a tar archive of its files.</summary>
    /// <param name="from">The backup's folder.</param>
    /// <param name="to">Receives the archive.</param>
    public static void Pack(string from, Stream to)
    {
        using var archive = new TarWriter(to, TarEntryFormat.Pax, leaveOpen: true);
        var sets = Path.Combine(from, SqliteFiles.KeySetsName);
        foreach (var name in Databases) Pack(archive, from, name);
        if (!Directory.Exists(sets)) return;
        foreach (var file in Directory.EnumerateFiles(sets).Order(StringComparer.Ordinal))
        {
            Pack(archive, from, $"{SqliteFiles.KeySetsName}/{Path.GetFileName(file)}");
        }
    }

    static void Pack(TarWriter archive, string from, string name)
    {
        using var file = File.OpenRead(Path.Combine(from, name));
        archive.WriteEntry(new PaxTarEntry(TarEntryType.RegularFile, name) { DataStream = file, Mode = SqliteFiles.Own });
    }

    /// <summary>Takes a backup out of an archive, into a folder that is empty.</summary>
    /// <param name="from">The archive.</param>
    /// <param name="to">The folder.</param>
    /// <exception cref="InvalidDataException">It is not a whole archive of a backup.</exception>
    public static void Unpack(Stream from, string to)
    {
        var found = new HashSet<string>();
        try
        {
            using var archive = new TarReader(from, leaveOpen: true);
            while (archive.GetNextEntry() is { } entry)
            {
                var parts = entry.Name.Split('/');
                bool isSet = parts is [SqliteFiles.KeySetsName, { Length: > 0 } set] && set is not ("." or "..");
                if (entry.EntryType is not (TarEntryType.RegularFile or TarEntryType.V7RegularFile)
                    || !(isSet || Databases.Contains(entry.Name)))
                {
                    throw new InvalidDataException($"The archive has '{entry.Name}', which no backup has.");
                }
                if (isSet) Directory.CreateDirectory(Path.Combine(to, SqliteFiles.KeySetsName), OwnFolder);
                using var file = new FileStream(Path.Combine(to, entry.Name), new FileStreamOptions
                { Mode = FileMode.CreateNew, Access = FileAccess.Write, UnixCreateMode = SqliteFiles.Own });
                entry.DataStream?.CopyTo(file);
                file.Flush(flushToDisk: true);
                found.Add(entry.Name);
            }
        }
        catch (Exception error) when (error is EndOfStreamException or FormatException)
        {
            throw new InvalidDataException($"The archive ends in the middle, or is none: {error.Message}", error);
        }
        if (Databases.FirstOrDefault(name => !found.Contains(name)) is { } missing)
        {
            throw new InvalidDataException($"The archive has no {missing}: it is not a whole backup.");
        }
    }

    static void CopyFile(string from, string to)
    {
        File.Copy(from, to, overwrite: true);
        File.SetUnixFileMode(to, SqliteFiles.Own);
    }

    /// <summary>What is damaged in a data folder; empty: nothing. One of an earlier version is looked through page by page only: what it
    /// says is understood once it is upgraded.</summary>
    /// <exception cref="StoreException">A newer version has changed it.</exception>
    public static IReadOnlyList<string> Damage(string folder)
    {
        var pages = Databases.SelectMany(name =>
            SqliteFiles.Integrity(Path.Combine(folder, name)).Select(line => $"{name}: {line}")).ToList();
        if (pages.Count > 0 || IsOfEarlierVersion(folder)) return pages;
        using var history = SqliteFiles.ReadHistory(Path.Combine(folder, SqliteFiles.HistoryName));
        return [.. history.Check()];
    }

    /// <summary>Whether the next start changes the schema of a data folder.</summary>
    /// <exception cref="StoreException">A newer version has changed it.</exception>
    public static bool IsOfEarlierVersion(string folder) =>
        Databases.Any(name => SqliteFiles.StepsAhead(Path.Combine(folder, name)).Count > 0);

    /// <summary>Brings a data folder that nobody uses to the present schema.</summary>
    /// <exception cref="StoreException">It can't be used; the message names the fix.</exception>
    public static void Upgrade(string folder)
    {
        SqliteFiles.OpenHistory(Path.Combine(folder, SqliteFiles.HistoryName)).Dispose();
        SqliteFiles.OpenAccess(Path.Combine(folder, SqliteFiles.AccessName)).Dispose();
    }
}
