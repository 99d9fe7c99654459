using System.Diagnostics;
using Npgsql;
using Rovett.Core.Addresses;
using Rovett.Core.Notifications;
using Rovett.Core.Store;
using Rovett.Storage;
using Rovett.Storage.Postgres;
using Shouldly;
using Xunit;

namespace Rovett.Core.Tests;

/// <summary>A PostgreSQL server of its own, in a folder of its own, on a socket of its own.</summary>
public sealed class PostgresServer : IDisposable
{
    readonly string folder = Directory.CreateTempSubdirectory("rovett-postgres-").FullName;
    readonly string programs;
    int databases;

    public PostgresServer()
    {
        programs = Directory.GetDirectories("/usr/lib/postgresql").OrderDescending().Select(d => Path.Combine(d, "bin"))
            .First(Directory.Exists);
        // The server refuses to run as root.
        if (Environment.UserName == "root") Run("chown", "postgres", folder).ShouldBe(0);
        AsServer("initdb", "-D", Path.Combine(folder, "data"), "-A", "trust", "-U", "rovett", "--no-sync").ShouldBe(0);
        Start();
    }

    /// <summary>Where its socket lies.</summary>
    public string Folder => folder;

    public void Start() =>
        AsServer("pg_ctl", "-D", Path.Combine(folder, "data"), "-w", "-s", "-l", Path.Combine(folder, "log"), "-o",
        $"-c listen_addresses= -k {folder}", "start").ShouldBe(0);

    /// <summary>Stops it as a crash would: connections are cut.</summary>
    public void Crash() => AsServer("pg_ctl", "-D", Path.Combine(folder, "data"), "-w", "-s", "-m", "immediate", "stop").ShouldBe(0);

    public string NewDatabase()
    {
        var name = $"store{++databases}";
        using var connection = new NpgsqlConnection($"Host={folder};Username=rovett;Database=postgres;Pooling=false");
        connection.Open();
        using var command = new NpgsqlCommand($"CREATE DATABASE {name}", connection);
        command.ExecuteNonQuery();
        return $"Host={folder};Username=rovett;Database={name}";
    }

    int AsServer(string program, params string[] arguments)
    {
        string[] command = [Path.Combine(programs, program), .. arguments];
        return Environment.UserName == "root" ? Run("runuser", ["-u", "postgres", "--", .. command]) : Run(command[0], command[1..]);
    }

    int Run(string program, params string[] arguments)
    {
        using var process =
            Process.Start(new ProcessStartInfo(program, arguments) { WorkingDirectory = folder, RedirectStandardOutput = true })!;
        process.WaitForExit();
        return process.ExitCode;
    }

    public void Dispose()
    {
        AsServer("pg_ctl", "-D", Path.Combine(folder, "data"), "-w", "-s", "-m", "immediate", "stop");
        Directory.Delete(folder, recursive: true);
    }
}

/// <summary>The same contract on PostgreSQL.</summary>
public sealed class PostgresStoreContractTests(PostgresServer server) : StoreContractTests, IClassFixture<PostgresServer>
{
    readonly string database = server.NewDatabase();

    protected override ILedgerStore Open() => PostgresHistory.Open(database);

    [Fact]
    public void Its_entries_are_read_beside_the_writer_as_of_one_moment()
    {
        using var store = PostgresHistory.Open(database);
        using var reader = PostgresHistory.Read(database);
        int main = store.FindSpace("main")!.Id;
        store.Begin();
        store.AppendEntry(main,
            new EntryRow(new Position(1), new StoredTime(5), EntryKind.Notification, NotificationId.New(DateTimeOffset.UnixEpoch), [],
            new Addressing("+everyone"), [], NotificationTraits.None));
        reader.History(main).ShouldBeEmpty();
        store.Commit();
        reader.History(main).Count.ShouldBe(1);
    }

    [Fact]
    public void A_second_writer_is_told_that_there_is_one()
    {
        using var store = PostgresHistory.Open(database);
        Should.Throw<StoreException>(() => PostgresHistory.Open(database)).Message.ShouldContain("Another service");
    }

    static void AppendOne(ILedgerStore store, int main, long position)
    {
        store.Begin();
        store.AppendEntry(main,
            new EntryRow(new Position(position), new StoredTime(position), EntryKind.Notification,
            NotificationId.New(DateTimeOffset.UnixEpoch.AddDays(position)), [], new Addressing("+everyone"), [], NotificationTraits.None));
        store.Commit();
    }

    [Fact]
    public void A_server_that_crashes_and_comes_back_has_what_was_committed_and_takes_more()
    {
        using var store = PostgresHistory.Open(database);
        int main = store.FindSpace("main")!.Id;
        void Append(long position) => AppendOne(store, main, position);
        Append(1);
        server.Crash();
        Should.Throw<Exception>(() => Append(2));
        store.Rollback();
        server.Start();
        Append(2);
        store.FindSpace("main")!.Head.ShouldBe(2);
    }

    [Theory]
    [InlineData(CuttingSocket.Cut.BeforeCommit)]
    [InlineData(CuttingSocket.Cut.AfterCommit)]
    public void A_line_cut_at_a_commit_leaves_it_stored_and_known_or_neither(CuttingSocket.Cut cut)
    {
        using var line = new CuttingSocket(server.Folder);
        using var store = PostgresHistory.Open(database.Replace(server.Folder, line.Host));
        int main = store.FindSpace("main")!.Id;
        void Append(long position) => AppendOne(store, main, position);
        Append(1);
        line.Next = cut;
        if (cut == CuttingSocket.Cut.BeforeCommit)
        {
            Should.Throw<Exception>(() => Append(2));
            store.Rollback();
            store.FindSpace("main")!.Head.ShouldBe(1);
        }
        else Append(2); // no answer came, and the look-up after it says that it is there
        line.Next.ShouldBe(CuttingSocket.Cut.Never);
        if (cut == CuttingSocket.Cut.BeforeCommit) Append(2);
        Append(3);
        using var reader = PostgresHistory.Read(database);
        reader.History(main).Select(e => e.Position).ShouldBe([1, 2, 3]);
    }
}
