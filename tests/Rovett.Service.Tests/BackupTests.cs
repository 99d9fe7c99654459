using System.Formats.Tar;
using System.Text.Json.Nodes;
using Microsoft.Data.Sqlite;
using Rovett.Storage;
using Rovett.Storage.Sqlite;
using Rovett.Testing;
using Shouldly;
using Xunit;

namespace Rovett.Service.Tests;

/// <summary>A data folder's files: whose they are, and what a copy of them holds.</summary>
[Trait("home", "folder")]
public sealed class BackupTests : IAsyncLifetime
{
    const UnixFileMode Own = UnixFileMode.UserRead | UnixFileMode.UserWrite;

    readonly string folder = Directory.CreateTempSubdirectory("rovett-test-").FullName;
    ServiceUnderTest s = null!;

    public async ValueTask InitializeAsync() =>
        s = await ServiceUnderTest.Start(folder: Directory.CreateDirectory(Path.Combine(folder, "data")).FullName);

    public async ValueTask DisposeAsync()
    {
        await s.DisposeAsync();
        Directory.Delete(folder, recursive: true);
    }

    static long Count(string database, string sql)
    {
        using var connection = new SqliteConnection($"Data Source={database};Mode=ReadOnly;Pooling=False");
        connection.Open();
        using var command = connection.CreateCommand();
        command.CommandText = sql;
        return (long)command.ExecuteScalar()!;
    }

    [Fact]
    public async Task All_databases_are_their_owners_alone_in_a_folder_that_others_may_read_too()
    {
        await s.Send("user:mara", "one");
        string[] Databases() => Directory.GetFiles(s.Folder, "*.db*");
        Databases().Length.ShouldBeGreaterThanOrEqualTo(2);
        foreach (var file in Databases()) File.GetUnixFileMode(file).ShouldBe(Own, file);
        // And those of an earlier service, which were not, become so.
        foreach (var file in Databases()) File.SetUnixFileMode(file, Own | UnixFileMode.GroupRead | UnixFileMode.OtherRead);
        await s.Restart();
        await s.Send("user:mara", "two");
        foreach (var file in Databases()) File.GetUnixFileMode(file).ShouldBe(Own, file);
    }

    [Fact]
    public async Task A_copy_is_of_one_moment_across_its_files_while_both_are_written_to()
    {
        using var backend = s.Backend();
        using var over = new CancellationTokenSource();
        long keys = Count(Path.Combine(s.Folder, SqliteFiles.AccessName), "SELECT count(*) FROM api_key");
        int made = 0;
        var writing = Task.Run(async () =>
        {
            // A key, then a notification: at any moment there are as many of both, or one key more.
            while (!over.IsCancellationRequested)
            {
                await backend.Call(HttpMethod.Post, "/v1/keys",
                    new JsonObject { ["name"] = $"k{made}", ["scopes"] = new JsonArray("send") });
                await s.Send("user:mara", $"{made}");
                Interlocked.Increment(ref made);
            }
        }, TestContext.Current.CancellationToken);
        for (int i = 0; i < 12; i++)
        {
            int before = Volatile.Read(ref made);
            await Eventually.Holds(() => Volatile.Read(ref made) > before + 3 || writing.IsCompleted, "more was made");
            var to = Directory.CreateDirectory(Path.Combine(folder, $"copy{i}")).FullName;
            DataFolderBackup.Copy(s.Folder, to);
            long more = Count(Path.Combine(to, SqliteFiles.AccessName), "SELECT count(*) FROM api_key") - keys,
                sent = Count(Path.Combine(to, SqliteFiles.HistoryName), "SELECT count(*) FROM entry WHERE id IS NOT NULL");
            (more - sent).ShouldBeInRange(0, 1, $"{more} keys, {sent} notifications");
            SqliteFiles.Integrity(Path.Combine(to, SqliteFiles.HistoryName)).ShouldBeEmpty();
            Directory.GetFiles(to).Select(Path.GetFileName).Order().ShouldBe([SqliteFiles.AccessName, SqliteFiles.HistoryName]);
        }
        await over.CancelAsync();
        await writing;
    }

    [Fact]
    public async Task The_service_makes_backups_by_itself_that_restore_and_lets_old_ones_go()
    {
        var clock = new TestClock();
        var backups = new BackupFolder(Path.Combine(folder, "backups"));
        await using var service = await ServiceUnderTest.Start(o => (o.Backups, o.BackupsKept) = (backups.Path, 3), clock);
        for (int day = 1; day <= 5; day++)
        {
            await service.Send("user:mara", $"day {day}");
            await service.Service.Backups.MakeIfDue();
            await service.Service.Backups.MakeIfDue(); // and not another one
            backups.All().Count.ShouldBe(Math.Min(day, 3));
            service.Service.Backups.Age!.Value.ShouldBeLessThan(TimeSpan.FromMinutes(1));
            clock.Advance(TimeSpan.FromHours(23));
            await service.Service.Backups.MakeIfDue();
            backups.All().Count.ShouldBe(Math.Min(day, 3));
            clock.Advance(TimeSpan.FromHours(1));
        }
        backups.All().Select(b => Count(Path.Combine(b.Path, SqliteFiles.HistoryName), "SELECT count(*) FROM entry WHERE kind=1"))
            .ShouldBe([3, 4, 5]);
        File.GetUnixFileMode(backups.Path).ShouldBe(DataFolderBackup.OwnFolder);
        foreach (var file in Directory.GetFiles(backups.Path, "*", SearchOption.AllDirectories)) File.GetUnixFileMode(file).ShouldBe(Own,
            file);
        (await service.Get("/v1/audit", service.Key)).Json!["acts"]!.AsArray()
            .Count(a => (string)a!["act"]! == "backup.made").ShouldBe(5);

        // The drill: what was backed up last is served, with every count.
        var restored = Directory.CreateDirectory(Path.Combine(folder, "restored")).FullName;
        DataFolderBackup.CopyBack(backups.All()[^1].Path, restored);
        await using var again = await ServiceUnderTest.Start(folder: restored);
        (await again.Totals(TestTokens.Make(service.Secret, "mara"))).Unread.ShouldBe(5);
        (await again.Get("/v1/status", service.Key)).Status.ShouldBe(200); // its keys too
    }

    [Fact]
    public async Task A_backup_that_can_not_be_made_is_told_and_tried_again_and_older_ones_stay()
    {
        var clock = new TestClock();
        var path = Path.Combine(folder, "backups");
        await using var service = await ServiceUnderTest.Start(o => (o.Backups, o.BackupsKept) = (path, 1), clock);
        await service.Service.Backups.MakeIfDue();
        var first = new BackupFolder(path).All().ShouldHaveSingleItem();
        clock.Advance(TimeSpan.FromDays(1));
        // Somebody's file is where the next one is made, and a half one is left of a process that was killed.
        var half = Directory.CreateDirectory(Path.Combine(path, ".partial-20200101T000000Z")).FullName;
        Directory.Move(path, path + ".away");
        await File.WriteAllTextAsync(path, "in the way", TestContext.Current.CancellationToken);
        await service.Service.Backups.MakeIfDue();
        service.Service.Backups.Failures.ShouldBe(1);
        File.Delete(path);
        Directory.Move(path + ".away", path);
        await service.Service.Backups.MakeIfDue(); // not before five minutes
        new BackupFolder(path).All().ShouldHaveSingleItem().ShouldBe(first);
        clock.Advance(TimeSpan.FromMinutes(6));
        await service.Service.Backups.MakeIfDue();
        new BackupFolder(path).All().ShouldHaveSingleItem().ShouldNotBe(first);
        Directory.Exists(half).ShouldBeFalse();
        (await service.Get("/v1/status", service.Key)).Json!["bugs"]!.GetValue<long>().ShouldBe(0);
    }

    [Fact]
    public async Task A_backup_that_would_fill_the_disk_is_not_begun()
    {
        await s.Send("user:mara");
        var backups = new BackupFolder(Path.Combine(folder, "backups"), reserve: long.MaxValue / 2);
        Should.Throw<StoreException>(() => backups.Make(s.Folder, DateTimeOffset.UtcNow)).Message.ShouldContain("MiB are free");
        Directory.GetFileSystemEntries(backups.Path).ShouldBeEmpty();
    }

    [Fact]
    public async Task An_archive_holds_the_whole_backup_and_nothing_else_is_taken_from_one()
    {
        await s.Send("user:mara", "one");
        var sets = Directory.CreateDirectory(Path.Combine(s.Folder, SqliteFiles.KeySetsName)).FullName;
        await File.WriteAllTextAsync(Path.Combine(sets, "identity.json"), "{}", TestContext.Current.CancellationToken);
        string Fresh(string name) => Directory.CreateDirectory(Path.Combine(folder, name)).FullName;
        var (copy, back) = (Fresh("copy"), Fresh("back"));
        DataFolderBackup.Copy(s.Folder, copy);
        using var archive = new MemoryStream();
        DataFolderBackup.Pack(copy, archive);
        DataFolderBackup.Unpack(new MemoryStream(archive.ToArray()), back);
        foreach (var file in Directory.GetFiles(copy, "*", SearchOption.AllDirectories))
        {
            var there = Path.Combine(back, Path.GetRelativePath(copy, file));
            (await File.ReadAllBytesAsync(there, TestContext.Current.CancellationToken))
                .ShouldBe(await File.ReadAllBytesAsync(file, TestContext.Current.CancellationToken));
            File.GetUnixFileMode(there).ShouldBe(Own);
        }
        Should.Throw<InvalidDataException>(() => DataFolderBackup.Unpack(
            new MemoryStream(archive.ToArray()[..(int)(archive.Length / 2)]), Fresh("half")));
        Should.Throw<InvalidDataException>(() => DataFolderBackup.Unpack(new MemoryStream(new byte[4096]), Fresh("empty")));
        foreach (var name in new[] { "../outside", "keys/../../outside", "/outside", "keys/a/b", "history.db/../x" })
        {
            using var wrong = new MemoryStream();
            using (var writer = new TarWriter(wrong, TarEntryFormat.Pax, leaveOpen: true))
            {
                writer.WriteEntry(new PaxTarEntry(TarEntryType.RegularFile, name) { DataStream = new MemoryStream([1]) });
            }
            wrong.Position = 0;
            Should.Throw<InvalidDataException>(() => DataFolderBackup.Unpack(wrong, Fresh("wrong" +
                name.Length))).Message.ShouldContain(name);
        }
        File.Exists(Path.Combine(folder, "outside")).ShouldBeFalse();
    }

    [Fact]
    public async Task A_copy_has_the_key_sets_and_is_its_owners_alone()
    {
        var sets = Directory.CreateDirectory(Path.Combine(s.Folder, SqliteFiles.KeySetsName)).FullName;
        await File.WriteAllTextAsync(Path.Combine(sets, "identity.json"), """{"keys":[]}""", TestContext.Current.CancellationToken);
        var (copy, back) =
            (Directory.CreateDirectory(Path.Combine(folder, "copy")).FullName,
            Directory.CreateDirectory(Path.Combine(folder, "back")).FullName);
        DataFolderBackup.Copy(s.Folder, copy);
        DataFolderBackup.CopyBack(copy, back);
        foreach (var file in Directory.GetFiles(copy, "*", SearchOption.AllDirectories)
            .Concat(Directory.GetFiles(back, "*", SearchOption.AllDirectories)))
        {
            File.GetUnixFileMode(file).ShouldBe(Own, file);
        }
        (await File.ReadAllTextAsync(Path.Combine(back, SqliteFiles.KeySetsName, "identity.json"),
            TestContext.Current.CancellationToken)).ShouldBe("""{"keys":[]}""");
    }
}
