using Rovett.Core.Addresses;
using Rovett.Core.Notifications;
using Rovett.Core.Store;
using Rovett.Storage;
using Rovett.Storage.Postgres;
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
        using var line = new CuttingSocket(server.Folder, server.Port);
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
