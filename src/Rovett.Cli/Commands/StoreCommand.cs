using System.CommandLine;
using Rovett.Storage.Sqlite;
using Spectre.Console;

namespace Rovett.Cli.Commands;

/// <summary><c>rovett store</c></summary>
static class StoreCommand
{
    public static Command Build() => new("store", """
        Back up, restore and check a data folder.

        Example:
          rovett store backup --data ./data --to ./backup
        """) { Backup(), Restore(), Check() };

    static Option<string> Data() =>
        new("--data")
        {
            Description = "The data folder.",
            DefaultValueFactory = _ => Environment.GetEnvironmentVariable("ROVETT_DATA") ?? "data"
        };

    static Command Backup()
    {
        var data = Data();
        var to = new Option<string>("--to") { Description = "A new folder for the copy.", Required = true };
        var command = new Command("backup", """
            Copy a data folder, as it is at one moment, while the service runs: history, credentials and key sets. Keep the copy safe.

            Example:
              rovett store backup --data ./data --to ./backup
            """) { data, to };
        command.SetAction((parsed, _) => Output.Guard(() =>
        {
            var (from, target) = (Existing(parsed.GetValue(data)!, "--data"), Fresh(parsed.GetValue(to)!, "--to"));
            DataFolderBackup.Copy(from, target);
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
            DataFolderBackup.CopyBack(source, target);
            var epoch = SqliteFiles.NewEpoch(Path.Combine(target, SqliteFiles.HistoryName));
            return Task.FromResult(
                Report([], $"Restored to {target}; the store's new life is {epoch}. Start it with 'rovett serve --data {target}'."));
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
        command.SetAction(
            (parsed, _) =>
            Output.Guard(() => Task.FromResult(Report(Problems(Existing(parsed.GetValue(data)!, "--data")), "Nothing is wrong."))));
        return command;
    }

    static List<string> Problems(string folder)
    {
        using var history = SqliteFiles.ReadHistory(Path.Combine(folder, SqliteFiles.HistoryName));
        return [.. DataFolderBackup.Databases.SelectMany(
            name => SqliteFiles.Integrity(Path.Combine(folder, name)).Select(line => $"{name}: {line}")), .. history.Check()];
    }

    static string Existing(string folder, string option) =>
        DataFolderBackup.Databases.All(name => File.Exists(Path.Combine(folder, name))) ? folder
        : throw new UsageException($"{option}: '{folder}' holds no Rovett data.",
        $"Name a folder with {string.Join(" and ", DataFolderBackup.Databases)}.");

    static string Fresh(string folder, string option)
    {
        if (File.Exists(folder) || (Directory.Exists(folder) && Directory.EnumerateFileSystemEntries(folder).Any()))
        {
            throw new UsageException($"{option}: '{folder}' exists already.", "Name a new or an empty folder; nothing is written over.");
        }
        return Directory.CreateDirectory(folder, UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute).FullName;
    }

    static int Report(IReadOnlyList<string> wrong, string good)
    {
        foreach (var line in wrong) Output.Error(line);
        if (wrong.Count == 0) AnsiConsole.MarkupLineInterpolated($"[green]{good}[/]");
        return wrong.Count == 0 ? 0 : 1;
    }
}
