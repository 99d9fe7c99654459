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
            Description = "Data folder.",
            DefaultValueFactory = _ => Environment.GetEnvironmentVariable("ROVETT_DATA") ?? "data"
        };

    static Command Backup()
    {
        var data = Data();
        var to = new Option<string>("--to") { Description = "New folder for the copy.", Required = true };
        var command = new Command("backup", """
            Back up a data folder while the service runs: history, credentials and key sets, as of one moment. Keep the copy safe.

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
        var from = new Option<string>("--from") { Description = "Backup folder.", Required = true };
        var data = new Option<string>("--data") { Description = "New data folder.", Required = true };
        var command = new Command("restore", """
            Create a data folder from a backup. Devices with old cursors receive a `gap`.

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
            Check a data folder for damage: broken pages, gaps in the history, notifications without an entry.

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
        : throw new UsageException($"{option}: '{folder}' contains no Rovett data.",
        $"Name a folder with {string.Join(" and ", DataFolderBackup.Databases)}.");

    static string Fresh(string folder, string option)
    {
        if (File.Exists(folder) || (Directory.Exists(folder) && Directory.EnumerateFileSystemEntries(folder).Any()))
        {
            throw new UsageException($"{option}: '{folder}' exists already.", "Use a new or empty folder; nothing is overwritten.");
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
