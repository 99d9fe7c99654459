using Rovett.Core.Addresses;
using Rovett.Core.Marks;
using Rovett.Core.Notifications;
using Rovett.Core.Store;
using Shouldly;
using Xunit;

namespace Rovett.Core.Tests;

/// <summary>What erasing and retention rely on.</summary>
public abstract partial class StoreContractTests
{
    [Fact]
    public void An_erasure_and_what_is_known_of_the_clock_are_there_after_a_restart()
    {
        int main = Store.FindSpace("main")!.Id;
        var erasure = new ErasureRow(7, "mara", 3, 40, 12, ErasureStage.Deadlines, 0, 0, new StoredTime(9)) { Gathering = 5 };
        var clock = new ClockRow(1, 2, 3, 4, 5, "a boot", 6);
        InOne(s =>
        {
            s.SaveErasure(main, erasure);
            s.SaveErasure(main, erasure with { Stage = ErasureStage.Acts, At = 17, Scrubbed = 2 });
            s.SaveTombstone(main, [1, 2], 30, 7);
            s.SaveTombstone(main, [1, 2], 40, 8);
            s.SaveClock(clock);
            var mara = s.AddPerson(main, "mara", null);
            s.SavePerson(mara with { ValidFrom = 100, Ahead = [5, -7], ClaimsAt = 11 });
            s.ShiftStanding(100, 50);
            s.ShiftStanding(151, 1000);
            var ivo = s.AddPerson(main, "ivo", null);
            s.SavePerson(ivo with { ValidFrom = 900, RolesIssuedAt = 900 });
            s.ShiftStanding(900, -50);
            s.FindPerson(main, "ivo")!.ShouldSatisfyAllConditions(p => p.ValidFrom.ShouldBe(850), p => p.RolesIssuedAt.ShouldBe(850));
            s.CapStanding(800, 50);
            s.FindPerson(main, "ivo")!.ValidFrom.ShouldBe(850);
            s.CapStanding(700, 50);
            s.FindPerson(main, "ivo")!.ShouldSatisfyAllConditions(p => p.ValidFrom.ShouldBe(700), p => p.RolesIssuedAt.ShouldBe(700));
        });
        var store = Again();
        store.Erasures(main).ShouldBe([erasure with { Stage = ErasureStage.Acts, At = 17, Scrubbed = 2 }]);
        store.FindErasure(main, "mara")!.Person.ShouldBe(7);
        store.FindErasure(main, "ivo").ShouldBeNull();
        (store.HasTombstones(main), store.FindTombstone(main, [1, 2]), store.FindTombstone(main, [1])).ShouldBe((true, 40L, null));
        store.Clock.ShouldBe(clock);
        var found = store.FindPerson(main, "mara")!;
        (found.ValidFrom, found.ClaimsAt).ShouldBe((150, 11));
        found.Ahead.ShouldBe([5, -7]);
        InOne(s =>
        {
            s.RemoveErasure(main, 7);
            s.RemoveTombstone(main, 8);
            s.ScrubFreed();
        });
        (Store.Erasures(main).Count, Store.HasTombstones(main)).ShouldBe((0, false));
    }

    [Fact]
    public void What_was_read_ahead_is_not_believed_once_retention_or_the_clock_has_changed_it()
    {
        int main = Store.FindSpace("main")!.Id;
        var ahead = new AheadList();
        ahead.Add("mara");
        long mara = 0;
        InOne(s =>
        {
            var row = s.AddPerson(main, "mara", null);
            mara = row.Id;
            s.SavePerson(row with { ValidFrom = 900, RolesIssuedAt = 900 });
            s.AddTake(main, new TakeRow(5, mara, new Placement(2, 3), null));
            s.OpenMembership(main, mara, new Membership("role:mate", 1, null, 1));
            s.CloseMembership(main, mara, "role:mate", 4);
        });
        void Ahead(Action<ILedgerStore> change, Action<ILedgerStore> then) => InOne(s =>
        {
            s.ReadAhead(main, ahead);
            change(s);
            then(s);
        });
        Ahead(_ => { }, s => (s.TakesOf(mara).Count, s.Memberships(mara).Count).ShouldBe((1, 1)));
        Ahead(s => s.TrimEntries(main, 10), s => (s.TakesOf(mara).Count, s.Memberships(mara).Count).ShouldBe((0, 0)));
        Ahead(s => s.ShiftStanding(900, 50), s => s.FindPerson(main, "mara")!.ValidFrom.ShouldBe(950));
        Ahead(s => s.CapStanding(700, 50), s => s.FindPerson(main, "mara")!.RolesIssuedAt.ShouldBe(700));
    }

    [Fact]
    public void What_erasing_reads_and_rewrites_is_of_one_person_and_up_to_a_position()
    {
        int main = Store.FindSpace("main")!.Id;
        long log = 0, person = 0;
        InOne(s =>
        {
            log = s.AddLog(main, "user:mara", []).Id;
            person = s.AddPerson(main, "mara", null).Id;
            for (long o = 1; o <= 3; o++)
            {
                s.AppendEntry(main, Entry(o, o * 10, new Placement(log, o)));
                s.AppendItem(log, o, o, 4711, 4712);
                s.SaveSlot(main, $"+user:mara\n={o}", o);
                s.AppendReceipt(main,
                    new ReceiptRow(o, new StoredTime(o), ReceiptState.Read, log, new OrdinalRun(o, o), o == 2 ? 99 : person, "desk", 0,
                    o == 3 ? "mara" : ""));
                s.AddSkip(log, person, o);
                s.SaveDeadline(main,
                    new DeadlineRow(o, 0,
                    new DeadlineTerms(ReceiptState.Read, TimeSpan.FromSeconds(1), false, []), new StoredTime(o), DeadlineState.Pending,
                    null));
                s.SaveOtherwise(main, o, 0, new OtherwiseRow(3, o == 2 ? new OtherwiseWebhook("pager")
                    : new OtherwiseNotification(new Draft([Address.User(new UserId("mara"))], [], [],
                    new NotificationTraits("t", null, ReceiptLevel.None, null)))));
            }
            s.SetAside(main, new SetAsideRow(new StoredTime(1), AsideKind.Otherwise, 1, "why", "{\"to\":\"user:mara\"}"));
            s.AppendEntry(main,
                new EntryRow(new Position(4), new StoredTime(50), EntryKind.Taken, default, [], Addressing.None, [],
                NotificationTraits.None));
        });
        Store.ItemsAfter(log, 1, 10).ShouldBe([(2, 2), (3, 3)]);
        Store.SlotsAfter(main, 0, 2, 10).ShouldBe([(1, "+user:mara\n=1"), (2, "+user:mara\n=2")]);
        Store.OtherwiseAfter(main, 0, 3, 10).ShouldBe([(1, 0, 3, new Addressing("+user:mara")), (3, 0, 3, new Addressing("+user:mara"))]);
        Store.SkipsOf(person, 2).ShouldBe([(log, 1, 1), (log, 2, 2)]);
        Store.ReceiptDetails(main, 0, 3).ShouldBe([(3, "mara")]);
        Store.ActsIn(main, 0, 4).Select(e => e.Position.Value).ShouldBe([4L]);
        Store.SetAsideAfter(main, 0, 5).Single().Detail.ShouldContain("user:mara");
        InOne(s =>
        {
            s.EraseItems(log);
            s.RemoveSlot(main, "+user:mara\n=1");
            s.RewriteOtherwise(main, 1, 0, 3, null);
            s.RewriteOtherwise(main, 3, 0, 3, new Addressing("+user:ivo"));
            s.RemoveSkip(person, log, 1);
            s.ForgetDevices(main, person, 0, 2);
            s.RewriteReceipt(main, 3, "erased-1");
            s.EraseEntry(main, 1, [1], new Addressing("+user:erased-1"));
            s.RewriteSetAside(s.SetAsideAfter(main, 0, 5)[0].Number, "{}");
        });
        var store = Again();
        store.OrdinalsAbout(log, 4711, 0, 9).ShouldBeEmpty();
        store.SlotsAfter(main, 0, 9, 10).Select(s => s.Position).ShouldBe([2L, 3]);
        store.OtherwiseAfter(main, 0, 9, 10).ShouldBe([(3, 0, 3, new Addressing("+user:ivo"))]);
        store.SkipsOf(person, 9).Count.ShouldBe(2);
        store.ReceiptDetails(main, 0, 9).ShouldBe([(3, "erased-1")]);
        store.SetAsideAfter(main, 0, 5).Single().Detail.ShouldBe("{}");
        var erased = store.FindEntry(main, 1)!;
        (erased.Traits.Type, erased.Traits.Subject, erased.Addressing.Lines, erased.Body.Length).ShouldBe(("", null, "+user:erased-1", 1));
    }

    [Fact]
    public void Retention_takes_receipts_closed_memberships_and_sums_with_the_entries_and_counts_stay()
    {
        int main = Store.FindSpace("main")!.Id;
        var (log, person) = InOne(s =>
        {
            var made = s.AddLog(main, "+role:crew", [Address.Role("crew")]);
            var mara = s.AddPerson(main, "mara", null);
            for (long o = 1; o <= 20; o++) s.AppendEntry(main, Entry(o, o * 10, new Placement(made.Id, o)));
            // Read by one from 3 to 12, by another from 8 to 20.
            foreach (var (ordinal, difference) in new[]
                { (3L, 1L), (13, -1), (8, 1), (21, -1) }) s.AddTally(made.Id, MarkKind.Read, ordinal, difference);
            foreach (var (after, until) in new[] { (0L, (long?)4), (4, 9), (9, 15), (15, null) })
            {
                s.OpenMembership(main, mara.Id, new Membership("role:crew", after, null, after));
                if (until is { } lost) s.CloseMembership(main, mara.Id, "role:crew", lost);
            }
            for (long n = 1; n <= 12; n++)
            {
                s.AppendReceipt(main,
                    new ReceiptRow(n, new StoredTime(n * 10), ReceiptState.Read, made.Id, new OrdinalRun(n, n), mara.Id, "desk", 0, ""));
            }
            return (made.Id, mara.Id);
        });
        InOne(s =>
        {
            s.TrimLog(log, 10);
            s.TrimEntries(main, 10);
        });
        Again();
        new[] { 11L, 12, 13, 20, 21 }.Select(o => Store.Tally(log, MarkKind.Read, o)).ShouldBe([2, 2, 1, 1, 0]);
        Store.Memberships(person).Select(m => (m.After, m.Until)).ShouldBe([(9, 15L), (15, null)]);
        InOne(s => s.TrimReceipts(main, new StoredTime(85), 5)).ShouldBe(5);
        InOne(s => s.TrimReceipts(main, new StoredTime(85), 5)).ShouldBe(3); // 6, 7 and 8
        InOne(s => s.TrimReceipts(main, new StoredTime(85), 5)).ShouldBe(0);
        InOne(s => s.TrimReceipts(main, new StoredTime(1000), 50)).ShouldBe(3); // the newest stays
        Again().LastReceipt(main).ShouldBe(12);
        InOne(s => s.TrimReceipts(main, default, 50)).ShouldBe(0);
    }
}
