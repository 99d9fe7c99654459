using System.Data.Common;
using System.IO.Compression;
using System.Text;
using System.Text.Json.Nodes;
using Microsoft.Data.Sqlite;
using Npgsql;
using Rovett.Storage;
using Rovett.Storage.Sqlite;
using Rovett.Testing;
using Rovett.Testing.Servers;
using Shouldly;
using Xunit;

namespace Rovett.Service.Tests;

/// <summary>Stores that earlier versions have made, each with what that version answered: this one opens them and answers the
/// same.</summary>
[Trait("home", "folder")]
public sealed class UpgradeTests : IDisposable
{
    readonly string folder = Directory.CreateTempSubdirectory("rovett-upgrade-").FullName;

    public void Dispose() => Directory.Delete(folder, recursive: true);

    /// <summary>The stores, by the last steps of their schemas: of the history and of the credentials.</summary>
    public static TheoryData<string> Stores => [.. Directory.EnumerateFiles(Folder, "h*.zip").Select(f =>
        Path.GetFileNameWithoutExtension(f)!)
        .Order()];

    /// <summary>The databases, likewise.</summary>
    public static TheoryData<string> Databases => [.. Directory.EnumerateFiles(Folder, "p*.zip").Select(f =>
        Path.GetFileNameWithoutExtension(f)!)
        .Order()];

    static string Folder => Path.Combine(ServiceProcess.Root, "tests", "Rovett.Service.Tests", "Upgrades");

    /// <summary>Makes the data folder of an earlier version.</summary>
    string Made(string store)
    {
        var data = Directory.CreateDirectory(Path.Combine(folder, store)).FullName;
        foreach (var name in DataFolderBackup.Databases)
        {
            using var connection = new SqliteConnection($"Data Source={Path.Combine(data, name)};Pooling=False");
            connection.Open();
            using var command = connection.CreateCommand();
            command.CommandText = Text(store, Path.GetFileNameWithoutExtension(name) + ".sql");
            command.ExecuteNonQuery();
        }
        return data;
    }

    static string Text(string store, string entry)
    {
        using var archive = ZipFile.OpenRead(Path.Combine(Folder, store + ".zip"));
        using var text = new StreamReader(archive.GetEntry(entry)!.Open());
        return text.ReadToEnd();
    }

    static string Secret(string data, string? database = null)
    {
        using DbConnection connection = database is null
            ? new SqliteConnection($"Data Source={Path.Combine(data, SqliteFiles.AccessName)};Pooling=False")
            : new NpgsqlConnection(database + ";Pooling=false");
        connection.Open();
        using var command = connection.CreateCommand();
        command.CommandText = "SELECT value FROM signing_key WHERE space='main' AND name='first'";
        return Encoding.UTF8.GetString((byte[])command.ExecuteScalar()!);
    }

    /// <summary>Makes the database of an earlier version.</summary>
    static void Make(string store, string database)
    {
        using var connection = new NpgsqlConnection(database + ";Pooling=false");
        connection.Open();
        using var command = new NpgsqlCommand(Text(store, "store.sql"), connection);
        command.ExecuteNonQuery();
    }

    static Task<ServiceUnderTest> Serve(string data, Action<Rovett.Service.Options.RovettOptions>? more = null) =>
        ServiceUnderTest.Start(o =>
    {
        o.WebhookNetworks = ["127.0.0.1/32"];
        more?.Invoke(o);
    }, folder: data);

    /// <summary>Asks again what the earlier version was asked.</summary>
    static async Task<List<string>> Differences(ServiceUnderTest service, string store, string key, string? database = null)
    {
        var secret = Secret(service.Folder, database);
        var found = new List<string>();
        var asked = JsonNode.Parse(Text(store, "asked.json"))!.AsArray();
        asked.Count.ShouldBeGreaterThan(30);
        foreach (var one in asked)
        {
            var (path, who) = ((string)one!["path"]!, (string?)one["as"]);
            var answer = await service.Get(path, who is null ? key : TestTokens.Make(secret, who));
            if (answer.Status != 200) found.Add($"{path}: {answer.Status} {answer.Text}");
            else Compare(one["json"], answer.Json, path + (who is null ? "" : $" as {who}"), found);
        }
        return found;
    }

    // What is of the moment it is asked, or of the process.
    static readonly string[] OfTheMoment = ["lastUsed", "asOf", "rev", "behind", "failures", "state", "delivered",
        "matched", "lastMatched", "lastFailed", "lastReason"];

    static void Compare(JsonNode? before, JsonNode? now, string where, List<string> found)
    {
        if (before is JsonObject fields)
        {
            foreach (var (name, value) in fields)
            {
                if (OfTheMoment.Contains(name) && value is not JsonObject) continue;
                Compare(value, (now as JsonObject)?[name], $"{where}.{name}", found);
            }
        }
        else if (before is JsonArray items)
        {
            var there = now as JsonArray ?? [];
            if (there.Count < items.Count) found.Add($"{where}: {there.Count} of {items.Count}");
            for (int i = 0; i < items.Count && there.Count >= items.Count; i++)
            {
                // Of a list that may have grown, such as that of the keys, each is somewhere.
                if (there.Count == items.Count) Compare(items[i], there[i], $"{where}[{i}]", found);
                else if (!there.Any(other => { var no = new List<string>(); Compare(items[i], other, "", no); return no.Count == 0; }))
                    found.Add($"{where}[{i}] is missing");
            }
        }
        else if (before?.ToJsonString() != now?.ToJsonString())
        {
            found.Add($"{where}: {before?.ToJsonString() ?? "null"} is {now?.ToJsonString() ?? "null"}");
        }
    }

    [Theory, MemberData(nameof(Stores))]
    public async Task A_store_of_each_earlier_schema_opens_and_answers_as_before(string store)
    {
        var data = Made(store);
        await using var service = await Serve(data);
        var key = service.Service.Keys.Make("main", "who looks", ["admin"]).Key;
        (await Differences(service, store, key)).ShouldBeEmpty();
        // And it carries on: counts continue from where they were.
        var pia = TestTokens.Make(Secret(data), "pia");
        long unread = (await service.Totals(pia)).Unread;
        (await service.Post("/v1/notifications", key,
            """{"to":["user:pia"],"type":"tide.turned","title":"The tide has turned"}""")).Status.ShouldBe(201);
        (await service.Totals(pia)).Unread.ShouldBe(unread + 1);
        DataFolderBackup.Damage(data).ShouldBeEmpty();
    }

    [Theory, MemberData(nameof(Stores))]
    public async Task A_backup_from_before_an_upgrade_is_made_and_restores(string store)
    {
        var (data, backups, restored) = (Made(store), Path.Combine(folder, "backups"), Path.Combine(folder, "restored"));
        bool isOlder = DataFolderBackup.IsOfEarlierVersion(data);
        await using (var service = await Serve(data, o => o.Backups = backups))
        {
            var key = service.Service.Keys.Make("main", "who sends", ["admin"]).Key;
            await service.Post("/v1/notifications", key, """{"to":["everyone"],"type":"t","title":"after the upgrade"}""");
        }
        var made = new BackupFolder(backups).All();
        if (!isOlder)
        {
            made.ShouldBeEmpty();
            return;
        }
        made.ShouldHaveSingleItem().IsBeforeUpgrade.ShouldBeTrue();
        Directory.CreateDirectory(restored);
        DataFolderBackup.CopyBack(made[0].Path, restored);
        DataFolderBackup.IsOfEarlierVersion(restored).ShouldBeTrue();
        DataFolderBackup.Upgrade(restored);
        DataFolderBackup.Damage(restored).ShouldBeEmpty();
        await using var again = await Serve(restored);
        (await Differences(again, store, again.Service.Keys.Make("main", "who looks", ["admin"]).Key)).ShouldBeEmpty();
    }

    [Theory, MemberData(nameof(Databases))]
    public async Task A_database_of_each_earlier_schema_opens_and_answers_as_before(string store)
    {
        using var server = new PostgresServer();
        var database = server.NewDatabase();
        Make(store, database);
        await using (var service = await Serve(folder, o => o.Database = database))
        {
            var key = service.Service.Keys.Make("main", "who looks", ["admin"]).Key;
            (await Differences(service, store, key, database)).ShouldBeEmpty();
            (await service.Post("/v1/notifications", key,
                """{"to":["user:pia"],"type":"t","title":"The tide has turned"}""")).Status.ShouldBe(201);
        }
        // And is not for an earlier version any more.
        using (var connection = new NpgsqlConnection(database + ";Pooling=false"))
        {
            await connection.OpenAsync(TestContext.Current.CancellationToken);
            using var command = new NpgsqlCommand("INSERT INTO schemaversions (scriptname, applied) VALUES " +
                "('Rovett.Storage.Postgres.AccessMigrations.0999-of-tomorrow.sql', now())", connection);
            await command.ExecuteNonQueryAsync(TestContext.Current.CancellationToken);
        }
        (await Should.ThrowAsync<StoreException>(() => Serve(folder, o => o.Database = database))).Message
            .ShouldContain("The database was upgraded by a newer version: it has the schema 0999-of-tomorrow");
    }

    [Theory, InlineData(SqliteFiles.HistoryName, "history"), InlineData(SqliteFiles.AccessName, "access")]
    public async Task A_store_that_a_newer_version_has_upgraded_is_refused_and_stays_as_it_is(string file, string part)
    {
        var data = Directory.CreateDirectory(Path.Combine(folder, "data")).FullName;
        await using (var service = await Serve(data)) await service.Send("user:mara");
        var path = Path.Combine(data, file);
        using (var connection = new SqliteConnection($"Data Source={path};Pooling=False"))
        {
            connection.Open();
            using var command = connection.CreateCommand();
            command.CommandText = "INSERT INTO SchemaVersions (ScriptName, Applied) VALUES ('Rovett.Storage.Sqlite.Migrations." +
                $"0999-{part}-of-tomorrow.sql', '2027-01-01'); PRAGMA wal_checkpoint(TRUNCATE)";
            command.ExecuteNonQuery();
        }
        var before = await File.ReadAllBytesAsync(path, TestContext.Current.CancellationToken);
        var refused = (await Should.ThrowAsync<StoreException>(() => Serve(data))).Message;
        refused.ShouldContain($"0999-{part}-of-tomorrow");
        refused.ShouldContain("Start the newer version, or go back to a backup");
        (await File.ReadAllBytesAsync(path, TestContext.Current.CancellationToken)).ShouldBe(before);
        Should.Throw<StoreException>(() => DataFolderBackup.Damage(data)).Message.ShouldBe(refused);
    }
}
