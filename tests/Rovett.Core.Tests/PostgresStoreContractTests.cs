using System.Collections.Concurrent;
using System.Globalization;
using Npgsql;
using Rovett.Core.Addresses;
using Rovett.Core.Notifications;
using Rovett.Core.Store;
using Rovett.Storage;
using Rovett.Storage.Homes;
using Rovett.Storage.Postgres;
using Rovett.Storage.Sql;
using Rovett.Testing;
using Rovett.Testing.Servers;
using Shouldly;
using Xunit;

namespace Rovett.Core.Tests;

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
    public async Task A_table_that_grows_from_nothing_is_looked_at_by_the_server_at_once()
    {
        var failures = new ConcurrentQueue<Exception>();
        using var home = new PostgresHome(database);
        var store = home.OpenHistory(1, failures.Enqueue)[0];
        using (store)
        {
            int main = store.FindSpace("main")!.Id;
            store.Begin();
            for (int i = 0; i < 2000; i++) store.AddPerson(main, $"person {i}", null);
            store.Commit();
            await Eventually.Holds(() => Task.FromResult(Asked("SELECT reltuples FROM pg_class WHERE relname='person'")),
                known => known >= 2000 || !failures.IsEmpty, "it knows the people");
        }
        failures.ShouldBeEmpty();
    }

    [Fact]
    public void People_are_looked_up_one_by_one_also_by_a_server_that_knows_nothing_of_the_table()
    {
        using (var store = PostgresHistory.Open(database))
        {
            int main = store.FindSpace("main")!.Id;
            store.Begin();
            for (int i = 0; i < 40_000; i++) store.AddPerson(main, $"person {i}", null);
            store.Commit();
            for (int batch = 0; batch < 20; batch++)
            {
                var people = new AheadList();
                for (int i = 0; i < 20; i++) people.Add($"person {(batch * 20) + i}");
                store.Begin();
                store.ReadAhead(main, people);
                store.FindPerson(main, $"person {batch * 20}").ShouldNotBeNull();
                store.Rollback();
            }
        }
        // The server counts once the connection has ended.
        Asked("SELECT idx_tup_fetch + seq_tup_read FROM pg_stat_user_tables WHERE relname='person'").ShouldBeLessThan(40_000);
    }

    double Asked(string sql)
    {
        using var connection = new NpgsqlConnection(database);
        connection.Open();
        using var ask = new NpgsqlCommand(sql, connection);
        return Convert.ToDouble(ask.ExecuteScalar(), CultureInfo.InvariantCulture);
    }

    [Fact]
    public void A_second_writer_is_told_that_there_is_one()
    {
        using var store = PostgresHistory.Open(database);
        Should.Throw<StoreException>(() => PostgresHistory.Open(database)).Message.ShouldContain("Another service");
    }

    static EntryRow Entry(long position) => new(new Position(position), new StoredTime(position), EntryKind.Notification,
        NotificationId.New(DateTimeOffset.UnixEpoch.AddDays(position)), [], new Addressing("+everyone"), [], NotificationTraits.None);

    static void AppendOne(ILedgerStore store, int main, long position)
    {
        store.Begin();
        store.AppendEntry(main, Entry(position));
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

    /// <summary>Writes with the line cut somewhere.</summary>
    /// <returns>Whether it is said to be stored.</returns>
    static bool Try(ILedgerStore store, int main, long position)
    {
        try
        {
            AppendOne(store, main, position);
            return true;
        }
        catch (Exception error) when (error is NpgsqlException)
        {
            store.Rollback();
            return false;
        }
    }

    [Fact]
    public void A_line_cut_at_any_byte_of_a_commit_or_its_answer_leaves_it_stored_and_known_or_neither()
    {
        using var line = new CuttingSocket(server.Folder, server.Port);
        using var store = PostgresHistory.Open(database.Replace(server.Folder, line.Host));
        using var reader = PostgresHistory.Read(database);
        int main = store.FindSpace("main")!.Id;
        for (long position = 1; position <= 3; position++) AppendOne(store, main, position); // its statements are prepared
        line.Plan(CuttingSocket.Cut.Never, 0);
        AppendOne(store, main, 4);
        var (asked, answered) = (line.Asked, line.Answered);
        asked.ShouldBeGreaterThan(100);
        var (stored, expected) = (0, new List<long> { 1, 2, 3, 4 });
        var cuts = Enumerable.Range(0, answered).Select(n => (CuttingSocket.Cut.Answered, n))
            .Concat(Enumerable.Range(0, asked).Where(n => n % 7 == 0 || n > asked - 100).Select(n => (CuttingSocket.Cut.Asked, n)));
        foreach (var (cut, after) in cuts)
        {
            long next = expected[^1] + 1;
            line.Plan(cut, after);
            if (Try(store, main, next))
            {
                stored++;
                expected.Add(next);
            }
            line.IsPlanned.ShouldBeFalse($"{cut} after {after} of {asked} and {answered} bytes");
            reader.History(main).Select(e => e.Position).ShouldBe(expected, $"{cut} after {after}");
            AppendOne(store, main, expected[^1] + 1); // it goes on
            expected.Add(expected[^1] + 1);
        }
        stored.ShouldBeInRange(answered, answered + 20, "all whose answer was cut, none whose question was, but for its very end");
        reader.History(main).Select(e => e.Position).ShouldBe(expected);
    }

    [Fact]
    public async Task A_commit_that_reaches_the_server_late_can_no_longer_happen()
    {
        using var line = new CuttingSocket(server.Folder, server.Port);
        using var store = PostgresHistory.Open(database.Replace(server.Folder, line.Host));
        using var reader = PostgresHistory.Read(database);
        int main = store.FindSpace("main")!.Id;
        for (long position = 1; position <= 3; position++) AppendOne(store, main, position);
        foreach (int after in new[] { 0, 5, 60 })
        {
            line.Plan(CuttingSocket.Cut.AskedLate, after);
            Try(store, main, 4).ShouldBeFalse("it is not there when it is looked for");
            await line.LetThrough();
            reader.History(main).Count.ShouldBe(3);
        }
        AppendOne(store, main, 4);
        reader.History(main).Select(e => e.Position).ShouldBe([1, 2, 3, 4]);
    }

    [Fact]
    public void What_could_not_be_found_out_is_not_said_to_be_unstored()
    {
        using var line = new CuttingSocket(server.Folder, server.Port);
        var behind = database.Replace(server.Folder, line.Host);
        using var store = PostgresHistory.Open(behind);
        int main = store.FindSpace("main")!.Id;
        AppendOne(store, main, 1);
        line.Plan(CuttingSocket.Cut.Answered, 3);
        line.RefusesNew = true;
        Should.Throw<InDoubtException>(() => AppendOne(store, main, 2));
        store.Rollback();
        line.RefusesNew = false;
        AppendOne(store, main, 3);
        using var reader = PostgresHistory.Read(database);
        reader.History(main).Select(e => e.Position).ShouldBe([1, 2, 3]); // it was
    }

    [Fact]
    public void What_another_has_taken_is_no_longer_written_to()
    {
        using var store = PostgresHistory.Open(database);
        using var hold = new PostgresHold(database + ";Pooling=false", alone: false);
        using var other = new SqlLedgerStore(new PostgresWriter(database + ";Pooling=false", hold));
        int main = store.FindSpace("main")!.Id;
        void Append(SqlLedgerStore by, long position)
        {
            by.Begin();
            by.TakeSpace("main");
            by.AppendEntry(main, Entry(position));
            by.Commit([main]);
        }
        Append(store, 1);
        Append(other, 2);
        Should.Throw<DeposedException>(() => Append(store, 3)).Space.ShouldBe(main);
        store.Rollback();
        store.Begin();
        store.TakeSpace("main")!.Head.ShouldBe(2);
        store.Commit();
        Append(store, 3);
        Should.Throw<DeposedException>(() => Append(other, 4));
    }

    [Fact]
    public void A_batch_of_another_with_the_same_number_is_not_taken_for_its_own()
    {
        using var store = PostgresHistory.Open(database);
        int main = store.FindSpace("main")!.Id;
        void Append(SqlLedgerStore by, long position)
        {
            by.Begin();
            by.TakeSpace("main");
            by.AppendEntry(main, Entry(position));
        }
        Append(store, 1);
        store.Commit([main]);
        Append(store, 2);
        using (var admin = new NpgsqlConnection(database + ";Pooling=false"))
        {
            admin.Open();
            using var end = new NpgsqlCommand("SELECT pg_terminate_backend(pid, 2000) FROM pg_stat_activity WHERE " +
                "datname=current_database() AND pid<>pg_backend_pid()", admin);
            end.ExecuteNonQuery();
        }
        using var hold = new PostgresHold(database + ";Pooling=false", alone: false);
        using var other = new SqlLedgerStore(new PostgresWriter(database + ";Pooling=false", hold));
        Append(other, 3);
        other.Commit([main]);
        Should.Throw<Exception>(() => store.Commit([main])).ShouldNotBeOfType<InDoubtException>();
        store.Rollback();
        using var reader = PostgresHistory.Read(database);
        reader.History(main).Select(e => e.Position).ShouldBe([1, 3]);
    }

    [Fact]
    public void A_connection_that_the_server_has_ended_is_a_failure_of_the_store_wherever_the_driver_finds_out()
    {
        using var hold = new PostgresHold(database + ";Pooling=false");
        using var writer = new PostgresWriter(database + ";Pooling=false", hold);
        using var admin = new NpgsqlConnection(database + ";Pooling=false");
        admin.Open();
        for (int round = 60; round < 140; round++)
        {
            if (round % 2 == 0) writer.Begin();
            long process = writer.Number("SELECT pg_backend_pid()")!.Value;
            if (round % 2 == 0) writer.Commit();
            using (var end = new NpgsqlCommand($"SELECT pg_terminate_backend({process}, 2000)", admin)) end.ExecuteNonQuery();
            writer.Begin();
            // It writes and reads at the same time, and either may meet the end first.
            for (int i = 0; i < round; i++) writer.Run($"SELECT '{new string('x', 1000)}'");
            Should.Throw<NpgsqlException>(() => writer.Number("SELECT 2"), $"{round} statements before it");
            writer.Rollback();
            writer.Connect();
        }
    }

    [Fact]
    public void Commits_that_were_confirmed_and_are_gone_begin_a_new_life()
    {
        using var store = PostgresHistory.Open(database);
        int main = store.FindSpace("main")!.Id;
        for (long position = 1; position <= 3; position++) AppendOne(store, main, position);
        // As on a server that lagged behind by one commit.
        using (var behind = new NpgsqlConnection(database + ";Pooling=false"))
        {
            behind.Open();
            using var back = new NpgsqlCommand("DELETE FROM entry WHERE time=3; DELETE FROM batch_done WHERE batch=" +
                "(SELECT max(batch) FROM batch_done WHERE space=0) AND space=0; SELECT pg_terminate_backend(pid) FROM pg_stat_activity " +
                "WHERE datname=current_database() AND pid<>pg_backend_pid()", behind);
            back.ExecuteNonQuery();
        }
        Should.Throw<InDoubtException>(() => AppendOne(store, main, 4));
        store.Rollback();
        Should.Throw<StoreException>(() => AppendOne(store, main, 4)).Message.ShouldContain("lost commits");
        store.Dispose();
        using var again = PostgresHistory.Open(database);
        again.Epoch.ShouldNotBe(store.Epoch);
        again.FindSpace("main")!.Head.ShouldBe(2);
    }
}
