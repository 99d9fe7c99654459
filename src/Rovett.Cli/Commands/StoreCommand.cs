using System.CommandLine;
using Rovett.Storage.Sqlite;
using Spectre.Console;

namespace Rovett.Cli.Commands;

/// <summary><c>rovett store</c></summary>
static class StoreCommand
{
    static readonly string[] Files = [SqliteFiles.HistoryName, SqliteFiles.AccessName];

    public static Command Build() => new("store", """
        Back up, restore and check a data folder.

        Example:
          rovett store backup --data ./data --to ./backup
        """) { Backup(), Restore(), Check() };

    static Option<string> Data() => new("--data") { Description = "The data folder.", DefaultValueFactory = _ => Environment.GetEnvironmentVariable("ROVETT_DATA") ?? "data" };

    static Command Backup()
    {
        var data = Data();
        var to = new Option<string>("--to") { Description = "A new folder for the copy.", Required = true };
        var command = new Command("backup", """
            Copy a data folder, as it is at one moment, while the service runs. The copy holds credentials: keep it safe.

            Example:
              rovett store backup --data ./data --to ./backup
            """) { data, to };
        command.SetAction((parsed, _) => Output.Guard(() =>
        {
            var (from, target) = (Existing(parsed.GetValue(data)!, "--data"), Fresh(parsed.GetValue(to)!, "--to"));
            // Credentials first: a key made between the two copies is then missing, never a notification of a missing key.
            foreach (var name in Files.Reverse())
            {
                using var reader = SqliteFiles.ReadHistory(Path.Combine(from, name));
                reader.BackupTo(Path.Combine(target, name));
                File.SetUnixFileMode(Path.Combine(target, name), UnixFileMode.UserRead | UnixFileMode.UserWrite);
            }
            var wrong = Problems(target);
            return Task.FromResult(Report(wrong, $"Copied to {target} and checked."));
        }));
        return command;
    }

    static Command Restore()
    {
        var from = new Option<string>("--from") { Description = "The folder of a backup.", Required = true };
        var data = new Option<string>("--data") { Description = "The new data folder to make.", Required = true };
        var command = new Command("restore", """
            Make a data folder from a backup. It begins another life: devices with cursors of the old one are told of a gap.

            Example:
              rovett store restore --from ./backup --data ./data-restored
            """) { from, data };
        command.SetAction((parsed, _) => Output.Guard(() =>
        {
            var source = Existing(parsed.GetValue(from)!, "--from");
            var wrong = Problems(source);
            if (wrong.Count > 0) return Task.FromResult(Report(wrong, ""));
            var target = Fresh(parsed.GetValue(data)!, "--data");
            foreach (var name in Files)
            {
                File.Copy(Path.Combine(source, name), Path.Combine(target, name));
                File.SetUnixFileMode(Path.Combine(target, name), UnixFileMode.UserRead | UnixFileMode.UserWrite);
            }
            var epoch = SqliteFiles.NewEpoch(Path.Combine(target, SqliteFiles.HistoryName));
            return Task.FromResult(Report([], $"Restored to {target}; the store's new life is {epoch}. Start it with 'rovett serve --data {target}'."));
        }));
        return command;
    }

    static Command Check()
    {
        var data = Data();
        var command = new Command("check", """
            Look for what is wrong in a data folder: broken pages, holes in the history, notifications without an entry.

            Example:
              rovett store check --data ./data
            """) { data };
        command.SetAction((parsed, _) => Output.Guard(() => Task.FromResult(Report(Problems(Existing(parsed.GetValue(data)!, "--data")), "Nothing is wrong."))));
        return command;
    }

    static List<string> Problems(string folder)
    {
        using var history = SqliteFiles.ReadHistory(Path.Combine(folder, SqliteFiles.HistoryName));
        return [.. Files.SelectMany(name => SqliteFiles.Integrity(Path.Combine(folder, name)).Select(line => $"{name}: {line}")), .. history.Check()];
    }

    static string Existing(string folder, string option) => Files.All(name => File.Exists(Path.Combine(folder, name))) ? folder
        : throw new UsageException($"{option}: '{folder}' holds no Rovett data.", $"Name a folder with {string.Join(" and ", Files)}.");

    static string Fresh(string folder, string option)
    {
        if (File.Exists(folder) || (Directory.Exists(folder) && Directory.EnumerateFileSystemEntries(folder).Any())) throw new UsageException($"{option}: '{folder}' exists already.", "Name a new or an empty folder; nothing is written over.");
        return Directory.CreateDirectory(folder, UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute).FullName;
    }

    static int Report(IReadOnlyList<string> wrong, string good)
    {
        foreach (var line in wrong) Output.Error(line);
        if (wrong.Count == 0) AnsiConsole.MarkupLineInterpolated($"[green]{good}[/]");
        return wrong.Count == 0 ? 0 : 1;
    }
}
