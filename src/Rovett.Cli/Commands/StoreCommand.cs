using System.CommandLine;
using Rovett.Storage;
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
        var to = new Option<string>("--to")
        { Description = "New folder for the copy; - writes a tar archive to standard output.", Required = true };
        var command = new Command("backup", """
            Back up a data folder while the service runs: history, credentials and key sets, as of one moment. Keep the copy safe.

            Example:
              rovett store backup --data ./data --to ./backup
              rovett store backup --data ./data --to - | zstd | ssh vault "cat > rovett.tar.zst"
            """) { data, to };
        command.SetAction((parsed, _) => Output.Guard(() =>
        {
            var from = Existing(parsed.GetValue(data)!, "--data");
            if (parsed.GetValue(to) == "-") return Task.FromResult(Stream(from));
            var target = Fresh(parsed.GetValue(to)!, "--to");
            DataFolderBackup.Copy(from, target);
            var wrong = DataFolderBackup.Damage(target);
            return Task.FromResult(Report(wrong, $"Copied to {target} and checked."));
        }));
        return command;
    }

    /// <summary>The copy is checked before the first byte is written: what arrives whole is right.</summary>
    static int Stream(string from)
    {
        if (!Console.IsOutputRedirected)
        {
            throw new UsageException("--to -: the archive would be written to the terminal.", "Send it on: … --to - > backup.tar");
        }
        var aside = Directory.CreateTempSubdirectory("rovett-backup-").FullName;
        try
        {
            DataFolderBackup.Copy(from, aside);
            var wrong = DataFolderBackup.Damage(aside);
            if (wrong.Count > 0) return Report(wrong, "");
            using var output = Console.OpenStandardOutput();
            DataFolderBackup.Pack(aside, output);
            return 0;
        }
        finally
        {
            Directory.Delete(aside, recursive: true);
        }
    }

    static Command Restore()
    {
        var from = new Option<string>("--from")
        { Description = "Backup: its folder, its tar archive, or - for an archive on standard input.", Required = true };
        var data = new Option<string>("--data") { Description = "New data folder.", Required = true };
        var command = new Command("restore", """
            Create a data folder from a backup. Devices with old cursors receive a `gap`.

            Example:
              rovett store restore --from ./backup --data ./data-restored
              ssh vault "cat rovett.tar.zst" | zstd -d | rovett store restore --from - --data ./data-restored
            """) { from, data };
        command.SetAction((parsed, _) => Output.Guard(() =>
        {
            var source = parsed.GetValue(from)!;
            bool isArchive = source == "-" || File.Exists(source);
            IReadOnlyList<string> wrong = isArchive ? [] : DataFolderBackup.Damage(Existing(source, "--from"));
            if (wrong.Count > 0) return Task.FromResult(Report(wrong, ""));
            var target = Fresh(parsed.GetValue(data)!, "--data");
            string epoch;
            try
            {
                if (isArchive) Unpack(source, target);
                else DataFolderBackup.CopyBack(source, target);
                if (isArchive) wrong = DataFolderBackup.Damage(target);
                if (wrong.Count == 0 && DataFolderBackup.IsOfEarlierVersion(target))
                {
                    DataFolderBackup.Upgrade(target);
                    wrong = DataFolderBackup.Damage(target);
                }
                if (wrong.Count > 0) throw new StoreException($"The backup is damaged, and nothing was restored: " +
                    $"{string.Join("; ", wrong)}");
                epoch = SqliteFiles.NewEpoch(Path.Combine(target, SqliteFiles.HistoryName)).ToString();
            }
            catch
            {
                Directory.Delete(target, recursive: true); // half a store would be served by mistake
                throw;
            }
            return Task.FromResult(
                Report([], $"Restored to {target}; the store's new life is {epoch}. Start it with 'rovett serve --data {target}'."));
        }));
        return command;
    }

    static void Unpack(string source, string target)
    {
        try
        {
            using var archive = source == "-" ? Console.OpenStandardInput() : File.OpenRead(source);
            DataFolderBackup.Unpack(archive, target);
        }
        catch (InvalidDataException error)
        {
            throw new UsageException($"--from: {error.Message}", "Name a folder or an archive that 'rovett store backup' made.");
        }
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
            Output.Guard(() => Task.FromResult(Report(DataFolderBackup.Damage(Existing(parsed.GetValue(data)!, "--data")),
                "Nothing is wrong."))));
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
