using Microsoft.Data.Sqlite;

namespace Rovett.Storage.Sqlite;

/// <summary>Copies a data folder: its databases and the key sets beside them, all as they are at one moment.</summary>
public static class DataFolderBackup
{
    /// <summary>Files that mark a data folder.</summary>
    public static IReadOnlyList<string> Databases { get; } = [SqliteFiles.HistoryName, SqliteFiles.AccessName];

    const int MostAttempts = 5;

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
        var target = Directory.CreateDirectory(Path.Combine(to, SqliteFiles.KeySetsName),
            UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute);
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

    static void CopyFile(string from, string to)
    {
        File.Copy(from, to, overwrite: true);
        File.SetUnixFileMode(to, SqliteFiles.Own);
    }
}
