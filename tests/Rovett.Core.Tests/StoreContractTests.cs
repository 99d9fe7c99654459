using System.Text;
using Rovett.Core.Addresses;
using Rovett.Core.AddressLogs;
using Rovett.Core.Ledger;
using Rovett.Core.Marks;
using Rovett.Storage.Sqlite;
using Shouldly;
using Xunit;

namespace Rovett.Core.Tests;

/// <summary>What the ledger relies on, whatever store is below. SQLite is the first; another store gets a class of three
/// lines.</summary>
public abstract class StoreContractTests : IDisposable
{
    protected abstract ILedgerStore Open();

    ILedgerStore? store;
    ILedgerStore Store => store ??= Open();

    /// <summary>Opens it anew, as after a restart.</summary>
    ILedgerStore Again()
    {
        (store as IDisposable)?.Dispose();
        return store = Open();
    }

    public virtual void Dispose()
    {
        (store as IDisposable)?.Dispose();
        GC.SuppressFinalize(this);
    }

    T InOne<T>(Func<ILedgerStore, T> work)
    {
        Store.Begin();
        var result = work(Store);
        Store.Commit();
        return result;
    }

    void InOne(Action<ILedgerStore> work) => InOne(s =>
    {
        work(s);
        return 0;
    });

    static EntryRow Entry(long position, long time, params Placement[] placements) =>
        new(new Position(position), new StoredTime(time), EntryKind.Notification, NotificationId.New(DateTimeOffset.UnixEpoch.AddDays(position)), Encoding.UTF8.GetBytes($"\"n\":{position}"), "+everyone", placements);

    [Fact]
    public void A_store_begins_with_the_space_main_and_keeps_its_epoch_and_keys()
    {
        var main = Store.FindSpace("main")!;
        (main.Head, main.Key.Length).ShouldBe((0, 32));
        var epoch = Store.Epoch;
        Again().Epoch.ShouldBe(epoch);
        Store.FindSpace("main")!.Key.ShouldBe(main.Key);
        Store.FindSpace("other").ShouldBeNull();
    }

    [Fact]
    public void What_was_rolled_back_never_was_and_a_commit_is_there_after_a_restart()
    {
        int main = Store.FindSpace("main")!.Id;
        Store.Begin();
        Store.AppendEntry(main, Entry(1, 10));
        Store.AddLog(main, "user:lost", []);
        Store.Rollback();
        Store.Rollback(); // once more harms nothing
        Store.FindSpace("main")!.Head.ShouldBe(0);
        Store.FindLog(main, "user:lost").ShouldBeNull();
        var kept = Entry(1, 11, new Placement(7, 1), new Placement(9, 4));
        InOne(s => s.AppendEntry(main, kept));
        var found = Again().FindEntry(main, kept.Id)!;
        (found.Position, found.Time, found.Addressing).ShouldBe((kept.Position, kept.Time, kept.Addressing));
        found.Body.ShouldBe(kept.Body);
        found.Placements.ShouldBe(kept.Placements);
        (Store.FindSpace("main")!.Head, Store.FindSpace("main")!.LastTime.Micros).ShouldBe((1, 11));
    }

    [Fact]
    public void A_position_can_not_be_drawn_twice()
    {
        int main = Store.FindSpace("main")!.Id;
        InOne(s => s.AppendEntry(main, Entry(1, 10)));
        Store.Begin();
        Should.Throw<Exception>(() => Store.AppendEntry(main, Entry(1, 11)));
        Store.Rollback();
    }

    [Fact]
    public void Positions_times_and_ordinals_convert_into_each_other()
    {
        int main = Store.FindSpace("main")!.Id;
        var log = InOne(s =>
        {
            var made = s.AddLog(main, "user:mara", []);
            for (long p = 1; p <= 9; p++) s.AppendEntry(main, Entry(p, p * 100));
            foreach (var (ordinal, position) in new[] { (1L, 2L), (2, 5), (3, 9) }) s.AppendItem(made.Id, ordinal, position, position == 5 ? 42 : null);
            return made;
        });
        new long[] { 0, 1, 2, 4, 5, 8, 9, 100 }.Select(p => Store.OrdinalAt(log.Id, p)).ShouldBe([0, 0, 1, 1, 2, 2, 3, 3]);
        new long[] { 0, 99, 100, 450, 900, 5000 }.Select(t => Store.PositionAt(main, new StoredTime(t))).ShouldBe([0, 0, 1, 4, 9, 9]);
        Store.OrdinalsAbout(log.Id, 42).ShouldBe([2]);
        var again = Again().FindLog(main, "user:mara")!;
        (again.Head, again.HeadPosition).ShouldBe((3, 9));
    }

    [Fact]
    public void Spaces_share_nothing()
    {
        int main = Store.FindSpace("main")!.Id;
        int other = InOne(s => s.AddSpace("harbour", new byte[32])).Id;
        var entry = Entry(1, 10);
        InOne(s =>
        {
            s.AppendEntry(main, entry);
            s.AddLog(main, "+role:engineer", [Address.Role("engineer")]);
            var person = s.AddPerson(main, "mara", new StoredTime(1));
            s.OpenMembership(main, person.Id, new Membership("role:engineer", 0, null));
            s.AddAnswer(main, "key", new IdempotencyRow([1], entry.Id, entry.Position), new StoredTime(5));
        });
        Store.FindEntry(other, entry.Id).ShouldBeNull();
        Store.FindLog(other, "+role:engineer").ShouldBeNull();
        Store.AudiencesOf(other, Address.Role("engineer")).ShouldBeEmpty();
        Store.FindPerson(other, "mara").ShouldBeNull();
        (Store.MembersOf(main, "role:engineer"), Store.MembersOf(other, "role:engineer")).ShouldBe((1, -1));
        Store.FindAnswer(other, "key", new StoredTime(0)).ShouldBeNull();
        Store.FindSpace("harbour")!.Head.ShouldBe(0);
        InOne(s => s.AppendEntry(other, Entry(1, 10)));
    }

    [Fact]
    public void Memberships_open_close_and_are_counted()
    {
        int main = Store.FindSpace("main")!.Id;
        var person = InOne(s =>
        {
            var made = s.AddPerson(main, "mara", null);
            s.OpenMembership(main, made.Id, new Membership("role:engineer", 3, null));
            s.CloseMembership(main, made.Id, "role:engineer", 7);
            s.OpenMembership(main, made.Id, new Membership("role:engineer", 9, null));
            s.SavePerson(made.Id, new StoredTime(4), 5, 6);
            return made;
        });
        Again().Memberships(person.Id).ShouldBe([new Membership("role:engineer", 3, 7), new Membership("role:engineer", 9, null)]);
        Store.MembersOf(main, "role:engineer").ShouldBe(1);
        Store.FindPerson(main, "mara").ShouldBe(new PersonRow(person.Id, "mara", new StoredTime(4), 5, 6));
    }

    [Fact]
    public void Marks_and_skips_come_back_as_they_were()
    {
        var marks = new OrdinalSet();
        marks.Add(new OrdinalRun(1, 10));
        marks.Add(new OrdinalRun(5000, 9000));
        InOne(s => s.SaveMarks(1, 2, MarkKind.Read, marks));
        marks.Remove(new OrdinalRun(6000, 6000));
        marks.Remove(new OrdinalRun(4, 4));
        InOne(s =>
        {
            s.SaveMarks(1, 2, MarkKind.Read, marks);
            s.AddSkip(2, 1, 77);
        });
        var back = Again().LoadMarks(1, 2, MarkKind.Read);
        for (long o = 1; o <= 10_000; o++) back.Contains(o).ShouldBe(marks.Contains(o));
        Store.LoadMarks(1, 2, MarkKind.Received).IsEmpty.ShouldBeTrue();
        Store.LoadMarks(2, 2, MarkKind.Read).IsEmpty.ShouldBeTrue();
        (Store.Skips(1, 2).Contains(77), Store.Skips(1, 2).Contains(76), Store.Skips(2, 2).IsEmpty).ShouldBe((true, false, true));
    }

    [Fact]
    public void An_answer_is_found_for_as_long_as_it_is_asked_for()
    {
        int main = Store.FindSpace("main")!.Id;
        var id = NotificationId.New(DateTimeOffset.UnixEpoch);
        InOne(s => s.AddAnswer(main, "key", new IdempotencyRow([1, 2], id, new Position(3)), new StoredTime(1000)));
        var found = Again().FindAnswer(main, "key", new StoredTime(1000))!;
        (found.Id, found.Position).ShouldBe((id, new Position(3)));
        found.BodyHash.ShouldBe([1, 2]);
        Store.FindAnswer(main, "key", new StoredTime(1001)).ShouldBeNull();
    }
}

/// <summary>SQLite in a folder.</summary>
public sealed class SqliteStoreContractTests : StoreContractTests
{
    readonly string folder = Directory.CreateTempSubdirectory("rovett-store-").FullName;

    protected override ILedgerStore Open() => new SqliteLedgerStore(Path.Combine(folder, "history.db"));

    public override void Dispose()
    {
        base.Dispose();
        Directory.Delete(folder, recursive: true);
    }

    [Fact]
    public void A_file_that_is_no_store_is_said_to_be_none_with_the_mend()
    {
        var path = Path.Combine(folder, "other.db");
        File.WriteAllText(path, new string('x', 5000));
        Should.Throw<StoreException>(() => new SqliteLedgerStore(path)).Message.ShouldContain("--data");
        File.ReadAllText(path).ShouldBe(new string('x', 5000));
    }
}
