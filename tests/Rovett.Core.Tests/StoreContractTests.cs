using System.Text;
using Microsoft.Data.Sqlite;
using Rovett.Core.Addresses;
using Rovett.Core.Marks;
using Rovett.Core.Notifications;
using Rovett.Core.Store;
using Rovett.Storage;
using Rovett.Storage.Sqlite;
using Shouldly;
using Xunit;

namespace Rovett.Core.Tests;

/// <summary>What the ledger relies on, whatever store is below. SQLite is the first; another store gets a class of three
/// lines.</summary>
public abstract partial class StoreContractTests : IDisposable
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
        new(new Position(position), new StoredTime(time), EntryKind.Notification,
        NotificationId.New(DateTimeOffset.UnixEpoch.AddDays(position)), Encoding.UTF8.GetBytes($"\"n\":{position}"),
        new Addressing("+everyone"),
        placements, new NotificationTraits("test.happened", "berth/3", ReceiptLevel.Full, TimeSpan.FromMinutes(5)));

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
        var found = Again().FindNotification(main, kept.Id)!;
        (found.Position, found.Time, found.Addressing).ShouldBe((kept.Position, kept.Time, kept.Addressing));
        found.Body.ShouldBe(kept.Body);
        found.Placements.ShouldBe(kept.Placements);
        found.Traits.ShouldBe(kept.Traits);
        (Store.FindSpace("main")!.Head, Store.FindSpace("main")!.LastTime.Micros).ShouldBe((1, 11));
    }

    [Fact]
    public void A_transaction_in_which_nothing_is_asked_leaves_nothing_behind()
    {
        int main = Store.FindSpace("main")!.Id;
        Store.Begin();
        Store.Commit();
        Store.Begin(lasting: false);
        Store.Rollback();
        Store.FindSpace("main")!.Head.ShouldBe(0); // outside of any
        Store.Begin(lasting: false);
        Store.Commit();
        InOne(s => s.AppendEntry(main, Entry(1, 10)));
        Again().FindSpace("main")!.Head.ShouldBe(1);
    }

    [Fact]
    public void A_position_can_not_be_drawn_twice()
    {
        int main = Store.FindSpace("main")!.Id;
        InOne(s => s.AppendEntry(main, Entry(1, 10)));
        Store.Begin();
        // A store may gather writes: then it is the commit that fails.
        Should.Throw<Exception>(() =>
        {
            Store.AppendEntry(main, Entry(1, 11));
            Store.Commit();
        });
        Store.Rollback();
        Store.FindSpace("main")!.LastTime.Micros.ShouldBe(10);
    }

    [Fact]
    public void Positions_times_and_ordinals_convert_into_each_other()
    {
        int main = Store.FindSpace("main")!.Id;
        var log = InOne(s =>
        {
            var made = s.AddLog(main, "user:mara", []);
            for (long p = 1; p <= 9; p++) s.AppendEntry(main, Entry(p, p * 100));
            foreach (var (ordinal, position) in new[]
                { (1L, 2L), (2, 5), (3, 9) }) s.AppendItem(made.Id, ordinal, position, position == 5 ? 42 : null, 7);
            return made;
        });
        new long[] { 0, 1, 2, 4, 5, 8, 9, 100 }.Select(p => Store.OrdinalAt(log.Id, p)).ShouldBe([0, 0, 1, 1, 2, 2, 3, 3]);
        new long[] { 0, 99, 100, 450, 900, 5000 }.Select(t => Store.PositionAt(main, new StoredTime(t))).ShouldBe([0, 0, 1, 4, 9, 9]);
        Store.OrdinalsAbout(log.Id, 42, 0, 3).ShouldBe([2]);
        Store.OrdinalsAbout(log.Id, 42, 0, 3, 0).ShouldBeEmpty();
        Store.MutedOrdinals([new MutedRange(log.Id, true, 7, 1, 3, 0, long.MaxValue),
            new MutedRange(log.Id, false, 42, 0, 3, 0, long.MaxValue), new MutedRange(log.Id, true, 7, 0, 3, 2, 5), new MutedRange(log.Id, true, 7, 0, 3, 5, long.MaxValue)])
            .ShouldBe([[2, 3], [2], [2], [3]]);
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
            s.OpenMembership(main, person.Id, new Membership("role:engineer", 0, null, 0));
            s.AddAnswer(main, "key", new IdempotencyRow([1], entry.Id, entry.Position), new StoredTime(5));
        });
        Store.FindNotification(other, entry.Id).ShouldBeNull();
        Store.FindLog(other, "+role:engineer").ShouldBeNull();
        Store.AudiencesOf(other, Address.Role("engineer")).ShouldBeEmpty();
        Store.FindPerson(other, "mara").ShouldBeNull();
        (Store.MembersOf(main, "role:engineer"), Store.MembersOf(other, "role:engineer")).ShouldBe((1, -1));
        Store.FindAnswer(other, "key", new StoredTime(0)).ShouldBeNull();
        Store.FindSpace("harbour")!.Head.ShouldBe(0);
        InOne(s => s.AppendEntry(other, Entry(1, 10)));
    }

    [Fact]
    public void A_removed_space_goes_in_steps_and_leaves_nothing()
    {
        int main = Store.FindSpace("main")!.Id, other = InOne(s => s.AddSpace("harbour", new byte[32])).Id;
        long[] people = [.. new[] { main, other }.Select(space => InOne(s =>
        {
            s.AppendEntry(space, Entry(1, 10));
            var log = s.AddLog(space, "+role:engineer", [Address.Role("engineer")]);
            s.AppendItem(log.Id, 1, 1, null, 7);
            var person = s.AddPerson(space, "mara", null);
            s.OpenMembership(space, person.Id, new Membership("role:engineer", 0, null, 0));
            s.OpenMembership(space, person.Id, new Membership("role:welder", 0, null, 0));
            s.CloseMembership(space, person.Id, "role:welder", 1);
            return person.Id;
        }))];
        InOne(s => s.RemoveSpace(other));
        int steps = 0;
        while (InOne(s => s.Purge(100))) steps++;
        steps.ShouldBeGreaterThan(2);
        Again().FindSpace("harbour").ShouldBeNull();
        Store.FindPerson(people[1]).ShouldBeNull();
        Store.Memberships(people[1]).ShouldBeEmpty();
        Store.Holders(other, "role:engineer", 0, 10).ShouldBeEmpty();
        Store.FindEntry(other, 1).ShouldBeNull();
        Store.FindLog(other, "+role:engineer").ShouldBeNull();
        Store.Memberships(people[0]).Count.ShouldBe(2);
        Store.FindEntry(main, 1).ShouldNotBeNull();
    }

    [Fact]
    public void Memberships_open_close_and_are_counted()
    {
        int main = Store.FindSpace("main")!.Id;
        var person = InOne(s =>
        {
            var made = s.AddPerson(main, "mara", null);
            s.OpenMembership(main, made.Id, new Membership("role:engineer", 3, null, 5));
            s.CloseMembership(main, made.Id, "role:engineer", 7);
            s.OpenMembership(main, made.Id, new Membership("role:engineer", 9, null, 9));
            s.SavePerson(
                made with
                {
                    Seen = new StoredTime(4),
                    Rev = 5,
                    RolesIssuedAt = 6,
                    RolesChangedAt = 7,
                    TokenRoles = ["engineer"],
                    DisplayName = "Mara"
                });
            return made;
        });
        Again().Memberships(person.Id).ShouldBe([new Membership("role:engineer", 3, 7, 5), new Membership("role:engineer", 9, null, 9)]);
        Store.MembersOf(main, "role:engineer").ShouldBe(1);
        var found = Store.FindPerson(main, "mara")!;
        (found.Id, found.Seen, found.Rev, found.RolesIssuedAt, found.RolesChangedAt, found.DisplayName, found.Locale).ShouldBe(
            (person.Id, new StoredTime(4), 5, 6, 7, "Mara", null));
        found.TokenRoles.ShouldBe(["engineer"]);
        found.DirectoryRoles.ShouldBeEmpty();
        Store.Holders(main, "role:engineer", 0, 10).ShouldBe([(person.Id, "mara")]);
        Store.Holders(main, "role:engineer", person.Id, 10).ShouldBeEmpty();
    }

    [Fact]
    public void Blocks_rows_and_skips_come_back_as_they_were()
    {
        var bits = new byte[512];
        bits[3] = 9;
        var row = new UserLogRow(2, 10, 20, 30, 1, 40, 50, 60, UserLogParts.Read | UserLogParts.Muted, [new Segment(3, long.MaxValue, 1)]);
        InOne(s =>
        {
            s.SaveBlock(1, 2, MarkKind.Read, 7, bits, 2);
            s.SaveBlock(1, 2, MarkKind.Read, 9, [], 4096);
            s.SaveBlock(1, 2, MarkKind.Read, 11, bits, 2);
            s.SaveUserLog(1, row);
        });
        InOne(s =>
        {
            s.SaveBlock(1, 2, MarkKind.Read, 11, null, 0);
            s.AddSkip(2, 1, 77);
        });
        var blocks = Again().Blocks(1, 2, MarkKind.Read);
        blocks.List().ShouldBe([(7, 2), (9, 4096)]);
        blocks.Load(7).ShouldBe(bits);
        blocks.Load(9).ShouldBeEmpty();
        Store.Blocks(1, 2, MarkKind.Received).List().ShouldBeEmpty();
        var back = Store.UserLogs(1).ShouldHaveSingleItem();
        // A skip makes it be counted anew.
        (back with { Segments = null }).ShouldBe(row with { Segments = null, Gone = null, Parts = row.Parts | UserLogParts.Skips });
        back.Segments.ShouldBe(row.Segments);
        (Store.Skips(1, 2).Contains(77), Store.Skips(1, 2).Contains(76), Store.Skips(2, 2).IsEmpty).ShouldBe((true, false, true));
        InOne(s => s.ForgetUserLogs(1));
        Store.UserLogs(1).ShouldHaveSingleItem().Segments.ShouldBeNull();
    }

    [Fact]
    public void What_is_due_taken_muted_or_in_a_slot_comes_back_in_order()
    {
        var soon = new DueRow(new StoredTime(10), DueKind.Expiry, 5, 0);
        var later = new DueRow(new StoredTime(20), DueKind.Deadline, 5, 1);
        var take = new TakeRow(5, 1, new Placement(2, 3), new StoredTime(30));
        var mute = new MuteRow(true, "weather.warning", 4, null, new StoredTime(6));
        var otherwise = new Draft([Address.Role("bridge")], [], [1, 2], new NotificationTraits("late", null, ReceiptLevel.Totals, null));
        var deadline = new DeadlineRow(5, 1, new DeadlineTerms(ReceiptState.Read, TimeSpan.FromMinutes(1), true, []),
            new StoredTime(20), DeadlineState.Pending, null);
        InOne(s =>
        {
            s.AddDue(1, later);
            s.AddDue(1, soon);
            s.AddTake(1, take);
            s.AddMute(1, mute);
            s.SaveSlot(1, "key", 4);
            s.SaveSlot(1, "key", 5);
            s.SaveDeadline(1, deadline);
            s.SaveOtherwise(1, 5, 1, new OtherwiseRow(1, new OtherwiseMail("bridge@marrowsound.example", "Late", null)));
            s.SaveOtherwise(1, 5, 1, new OtherwiseRow(0, new OtherwiseNotification(otherwise)));
            s.SaveOtherwise(1, 5, 1, new OtherwiseRow(2, new OtherwiseWebhook("pager")));
            s.SaveRole(1, new RoleRow("engineer", "Engineers", TimeSpan.Zero, true));
        });
        Again().Due(1, new StoredTime(20), 10).ShouldBe([soon, later]);
        Store.Due(1, new StoredTime(19), 10).ShouldBe([soon]);
        Store.FindTake(1, 5).ShouldBe(take);
        (Store.TakesOf(1).Single(), Store.TakenOf(2).Single()).ShouldBe((take, 3));
        Store.MutesOf(1).ShouldBe([mute]);
        Store.FindSlot(1, "key").ShouldBe(5);
        Store.FindRole(1, "engineer").ShouldBe(new RoleRow("engineer", "Engineers", TimeSpan.Zero, true));
        var found = Store.Deadlines(1, 5).ShouldHaveSingleItem();
        (found.Terms.By, found.Terms.Within, found.Terms.Each, found.State).ShouldBe(
            (ReceiptState.Read, TimeSpan.FromMinutes(1), true, DeadlineState.Pending));
        ((OtherwiseNotification)found.Terms.Otherwise[0]).Draft.To.ShouldBe(otherwise.To);
        found.Terms.Otherwise.Skip(1)
            .ShouldBe([new OtherwiseMail("bridge@marrowsound.example", "Late", null), new OtherwiseWebhook("pager")]);
        InOne(s =>
        {
            s.RemoveDue(1, soon);
            s.RemoveTake(1, 5);
            s.EndMute(1, true, "weather.warning", 9);
            s.SaveDeadline(1, found with { State = DeadlineState.Missed, Ended = new StoredTime(21) });
        });
        Store.Due(1, new StoredTime(20), 10).ShouldBe([later]);
        Store.FindTake(1, 5).ShouldBeNull();
        Store.MutesOf(1).ShouldBe([mute with { Until = 9 }]);
        Store.Deadlines(1, 5).Single().Ended.ShouldBe(new StoredTime(21));
    }

    [Fact]
    public void The_newest_change_of_some_ordinals_is_found_and_a_trim_is_none()
    {
        InOne(s =>
        {
            s.AppendChange(1, new JournalRow(10, 3, EntryKind.Taken, 1));
            s.AppendChange(1, new JournalRow(11, 5, EntryKind.Withdrawn, 0));
            s.AppendChange(1, new JournalRow(12, 3, EntryKind.Released, 2));
            s.AppendChange(1, new JournalRow(13, 4, EntryKind.Trimmed, 0));
            s.AppendChange(2, new JournalRow(14, 3, EntryKind.Expired, 0));
        });
        Again().NewestChange(1, 0, new OrdinalRun(1, 4)).ShouldBe(new JournalRow(12, 3, EntryKind.Released, 2));
        Store.NewestChange(1, 0, new OrdinalRun(5, 5)).ShouldBe(new JournalRow(11, 5, EntryKind.Withdrawn, 0));
        Store.NewestChange(1, 12, new OrdinalRun(1, 9)).ShouldBeNull();
    }

    [Fact]
    public void Tallies_are_sums_of_differences_over_blocks()
    {
        InOne(s =>
        {
            s.AddTally(1, MarkKind.Read, 1, 3);
            s.AddTally(1, MarkKind.Read, 5001, -1);
            s.AddTally(1, MarkKind.Read, 5001, -1);
            s.AddTally(1, MarkKind.Received, 1, 9);
        });
        new long[] { 1, 4096, 4097, 5000, 5001, 90_000 }.Select(o => Again().Tally(1, MarkKind.Read, o)).ShouldBe([3, 3, 3, 3, 1, 1]);
        Store.Tally(2, MarkKind.Read, 1).ShouldBe(0);
    }

    [Fact]
    public void What_is_written_several_times_in_one_commit_is_as_it_was_written_last()
    {
        int main = Store.FindSpace("main")!.Id;
        UserLogRow Row(long log, long line) =>
            new(log, line, 0, 0, 0, line == 7 ? null : line, 0, 0, 0, line == 7 ? null : [new Segment(0, line, 0)]);
        var (mara, teo, made) = InOne(s =>
        {
            var log = s.AddLog(main, "user:mara", []);
            var (one, two) = (s.AddPerson(main, "mara", null).Id, s.AddPerson(main, "teo", null).Id);
            s.SaveUserLog(one, Row(log.Id, 3));
            s.SaveUserLog(two, Row(log.Id, 4));
            s.SaveUserLog(one, Row(log.Id, 7));
            s.SaveLog(log with { Head = 1, HeadPosition = 2 });
            s.AppendItem(log.Id, 1, 2, null, 7);
            s.AddRun(one, log.Id, MarkKind.Read, new OrdinalRun(1, 4), new StoredTime(10), "desk");
            s.AddRun(two, log.Id, MarkKind.Read, new OrdinalRun(1, 4), new StoredTime(10), "desk");
            s.ClearRun(one, log.Id, MarkKind.Read, new OrdinalRun(2, 2)); // reads what was written just before
            s.AddRun(one, log.Id, MarkKind.Read, new OrdinalRun(3, 5), new StoredTime(11), "phone");
            s.SaveBlock(one, log.Id, MarkKind.Read, 0, [1], 1);
            s.SaveBlock(one, log.Id, MarkKind.Read, 0, null, 0);
            s.SaveBlock(two, log.Id, MarkKind.Read, 0, [1], 1);
            s.SaveBlock(two, log.Id, MarkKind.Read, 0, [3], 2);
            s.SaveLog(log with { Head = 2, HeadPosition = 5 });
            s.AppendItem(log.Id, 2, 5, 42, 7);
            return (one, two, log.Id);
        });
        var mine = Again().UserLogs(mara).ShouldHaveSingleItem();
        (mine.ReadLine, mine.Gone, mine.Segments).ShouldBe((7, null, null));
        var others = Store.UserLogs(teo).ShouldHaveSingleItem();
        (others.ReadLine, others.Gone).ShouldBe((4, 4));
        others.Segments.ShouldBe([new Segment(0, 4, 0)]);
        (Store.FindLog(made)!.Head, Store.FindLog(made)!.HeadPosition).ShouldBe((2, 5));
        Store.NewestItems(made, 0, 9).ShouldBe([(2, 5), (1, 2)]);
        Store.Blocks(mara, made, MarkKind.Read).List().ShouldBeEmpty();
        Store.Blocks(teo, made, MarkKind.Read).List().ShouldHaveSingleItem().Count.ShouldBe(2);
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

    [Fact]
    public void Events_gatherings_rules_and_what_is_set_aside_are_there_after_a_restart()
    {
        int main = Store.FindSpace("main")!.Id;
        NotificationId first = NotificationId.New(DateTimeOffset.UnixEpoch.AddDays(1)),
            later = NotificationId.New(DateTimeOffset.UnixEpoch.AddDays(3));
        var row = new EventRow("/planning/1", "e1", [1, 2], new StoredTime(1000), "engine.check.due", null, "00-1", [3]);
        var gathering = new GatheringRow(0, [7], later, "rule", 1, new StoredTime(9), [4], "user:teo", ReceiptLevel.Totals, null);
        long open = 0, aside = 0;
        InOne(s =>
        {
            s.SaveEvent(main, row);
            s.SaveEvent(main, row with { Outcome = [5, 6] });
            s.SaveEvent(main, row with { Id = "e2", Time = new StoredTime(2000), Content = [4] });
            s.AddOrigin(main, first, "/planning/1", "e1", "rule");
            s.AddOrigin(main, first, "/planning/1", "e1", "rule");
            s.AddOrigin(main, later, "/planning/1", "e2", "rule");
            s.AddRules(main, new RulesVersion(3, new StoredTime(30), [8]));
            s.AddRules(main, new RulesVersion(5, new StoredTime(50), [9]));
            open = s.AddGathering(main, gathering);
            s.SaveGathering(main, gathering with { Number = open, Events = 4, Body = [5] });
            aside = s.SetAside(main, new SetAsideRow(new StoredTime(8), AsideKind.Event, 0, "why", "{}"));
            s.SetAside(main, new SetAsideRow(new StoredTime(9), AsideKind.Event, 0, "why", "{}"));
        });
        var store = Again();
        store.FindEvent(main, "/planning/1", "e1")!.ShouldSatisfyAllConditions(e => e.Hash.ShouldBe([1, 2]),
            e => e.Outcome.ShouldBe([5, 6]),
            e => (e.Type, e.Subject, e.Trace, e.Time).ShouldBe(("engine.check.due", null, "00-1", new StoredTime(1000))));
        store.EventsAfter(main, new StoredTime(999), 1).Select(e => (e.Id, e.Content)).ShouldBe([("e1", null)]);
        store.EventsAfter(main, new StoredTime(1000), 5).Select(e => (e.Id, e.Content![0])).ShouldBe([("e2", (byte)4)]);
        InOne(s => s.RewriteEvent(main, row with { Id = "e2", Subject = "else" }));
        var rewritten = Again().FindEvent(main, "/planning/1", "e2")!;
        (rewritten.Subject, rewritten.Content, rewritten.Type).ShouldBe(("else", null, "engine.check.due"));
        store = Again();
        (store.RulesUpTo(main, 4)!.Document[0], store.RulesUpTo(main, 9)!.Position, store.RulesUpTo(main, 2)).ShouldBe(((byte)8, 5L, null));
        var found = store.FindGathering(main, (byte[])[7])!;
        (found.Number, found.Events, found.Id, found.ExceptToo, found.Closes, store.CountGatherings(main))
            .ShouldBe((open, 4, later, "user:teo", new StoredTime(9), 1));
        store.FindGathering(main, later)!.Number.ShouldBe(open);
        store.GatheringsAfter(main, 0, 10).Select(g => g.Number).ShouldBe([open]);
        (store.FindSetAside(main, aside)!.Kind, store.SetAsideSize(main)).ShouldBe((AsideKind.Event, (2L, 4L)));
        InOne(s =>
        {
            s.TrimEvents(main, new StoredTime(1500), 10).ShouldBe(1);
            s.TrimOrigins(main, NotificationId.First(DateTimeOffset.UnixEpoch.AddDays(2)));
            s.RemoveGathering(main, open);
            s.RemoveSetAside(main, aside);
        });
        store = Again();
        (store.FindEvent(main, "/planning/1", "e1"), store.FindEvent(main, "/planning/1", "e2")?.Id, store.FindGathering(main, open),
            store.SetAsideSize(main).Count).ShouldBe((null, "e2", null, 1L));
    }
}

/// <summary>SQLite in a folder.</summary>
public sealed class SqliteStoreContractTests : StoreContractTests
{
    readonly string folder = Directory.CreateTempSubdirectory("rovett-store-").FullName;

    protected override ILedgerStore Open() => SqliteFiles.OpenHistory(Path.Combine(folder, "history.db"));

    public override void Dispose()
    {
        base.Dispose();
        Directory.Delete(folder, recursive: true);
    }

    [Fact]
    public void A_transaction_locks_the_file_with_its_first_statement()
    {
        using var store = SqliteFiles.OpenHistory(Path.Combine(folder, "history.db"));
        using var other = new SqliteConnection($"Data Source={Path.Combine(folder, "history.db")};Pooling=False;Default Timeout=1");
        other.Open();
        using var begin = other.CreateCommand();
        begin.CommandText = "BEGIN IMMEDIATE; ROLLBACK";
        store.Begin();
        begin.ExecuteNonQuery();
        store.TakeSpace("main");
        Should.Throw<SqliteException>(() => begin.ExecuteNonQuery()).SqliteErrorCode.ShouldBe(5);
        store.Commit();
        begin.ExecuteNonQuery();
    }

    [Fact]
    public void A_file_that_is_no_store_is_said_to_be_none_with_the_mend()
    {
        var path = Path.Combine(folder, "other.db");
        File.WriteAllText(path, new string('x', 5000));
        Should.Throw<StoreException>(() => SqliteFiles.OpenHistory(path)).Message.ShouldContain("--data");
        File.ReadAllText(path).ShouldBe(new string('x', 5000));
    }
}
