using System.Text.Json.Nodes;
using Microsoft.Data.Sqlite;
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
