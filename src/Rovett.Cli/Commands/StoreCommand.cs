using System.CommandLine;
using Rovett.Storage.Homes;
using Rovett.Storage.Sqlite;
using Spectre.Console;

namespace Rovett.Cli.Commands;

/// <summary><c>rovett store</c></summary>
static class StoreCommand
{
    public static Command Build() => new("store", """
        Back up, restore, check and move what is stored.

        Example:
          rovett store backup --data ./data --to ./backup
        """) { Backup(), Restore(), Check(), Move() };

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

    static Command Move()
    {
        var data = new Option<string?>("--data") { Description = "Data folder to move." };
        var toDatabase = new Option<string?>("--to-database") { Description = "Empty PostgreSQL database that it goes to." };
        var database = new Option<string?>("--database") { Description = "PostgreSQL database to move." };
        var toData = new Option<string?>("--to-data") { Description = "New data folder that it goes to." };
        var command = new Command("move", """
            Move everything from a data folder to a PostgreSQL database, or back. Stop the service before. The copy is compared with what it
            was made of. Run the command again if it was interrupted: it goes on where it was. The original stays, and is not served by
            mistake. The store begins a new life: devices with old cursors receive a `gap`.

            Example:
              rovett store move --data ./data --to-database "Host=db.internal;Database=rovett;Username=rovett"
              rovett store move --database "Host=db.internal;Database=rovett;Username=rovett" --to-data ./data2
            """) { data, toDatabase, database, toData };
        command.SetAction((parsed, cancel) => Output.Guard(async () =>
        {
            var (folder, target) = (parsed.GetValue(data), parsed.GetValue(toDatabase));
            var (source, newFolder) = (parsed.GetValue(database), parsed.GetValue(toData));
            bool isToDatabase = folder is not null && target is not null && source is null && newFolder is null;
            if (!isToDatabase && !(source is not null && newFolder is not null && folder is null && target is null))
            {
                throw new UsageException("It is not clear what goes where.", "Give --data and --to-database, or --database and --to-data.");
            }
            if (PostgresHome.Mistake((target ?? source)!) is { } mistake)
            {
                throw new UsageException($"{(isToDatabase ? "--to-database" : "--database")}: {mistake}.",
                    "Give it as Host=db.internal;Database=rovett;Username=rovett.");
            }
            using MoveSide from = isToDatabase ? new FolderSide(Existing(folder!, "--data")) : new DatabaseSide(source!);
            using MoveSide to = isToDatabase ? new DatabaseSide(target!) : new FolderSide(newFolder!);
            var moved = await Task.Run(() => Shown(from, to, cancel), cancel);
            AnsiConsole.MarkupLineInterpolated(
                $"[green]Moved to {to.Name}: {moved.Rows} rows of {moved.Tables} tables, compared; new life: {moved.Epoch}.[/]");
            Output.Hint(isToDatabase
                ? "Start it with 'rovett serve --database …'. Key sets named file:NAME are still read from the data folder."
                : $"Start it with 'rovett serve --data {to.Name}'.");
            return 0;
        }));
        return command;
    }

    static MoveResult Shown(MoveSide from, MoveSide to, CancellationToken cancel)
    {
        MoveResult? result = null;
        AnsiConsole.Progress()
            .Columns(new TaskDescriptionColumn(), new ProgressBarColumn(), new PercentageColumn(), new RemainingTimeColumn())
            .Start(progress =>
            {
                var task = progress.AddTask("preparing");
                result = StoreMove.Run(from, to, p =>
                {
                    task.MaxValue = Math.Max(1, p.All);
                    task.Value = p.Done;
                    task.Description = $"{(p.Checking ? "comparing" : "copying")} {p.Table}";
                }, cancel);
                (task.Value, task.Description) = (task.MaxValue, "done");
            });
        return result!;
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
