using Rovett.Core.Notifications;
using Rovett.Core.Store;
using Shouldly;
using Xunit;

namespace Rovett.Core.Tests;

/// <summary>What missed deadlines do, and what goes out for them.</summary>
public abstract partial class StoreContractTests
{
    static OutboundRow Outbound(long at, long position = 5) =>
        new(0, new StoredTime(at), position, 1, 2, new StoredTime(at), 0, null, $$"""{"webhook":"pager","at":{{at}}}""");

    [Fact]
    public void Calls_wait_in_the_order_they_are_due_until_they_are_removed()
    {
        long first = 0, second = 0;
        InOne(s =>
        {
            second = s.AddOutbound(1, Outbound(20));
            first = s.AddOutbound(1, Outbound(10));
        });
        Again().OutboundDue(1, new StoredTime(20), 10).Select(r => r.Number).ShouldBe([first, second]);
        Store.OutboundDue(1, new StoredTime(19), 10).ShouldBe([Outbound(10) with { Number = first }]);
        (Store.NextOutbound(1), Store.NextOutbound(2)).ShouldBe((new StoredTime(10), null));
        InOne(s => s.SaveOutbound(1, Outbound(10) with
        {
            Number = first,
            At = new StoredTime(30),
            Attempts = 1,
            Error = "answered 500",
            Detail = "{}"
        }));
        var changed = Again().FindOutbound(1, first)!;
        (changed.At, changed.Attempts, changed.Error, changed.Detail, changed.Begun)
            .ShouldBe((new StoredTime(30), 1, "answered 500", "{}", new StoredTime(10)));
        Store.OutboundAfter(1, second, 10).Select(r => r.Number).ShouldBe([first]);
        InOne(s => s.RemoveOutbound(1, first));
        (Store.FindOutbound(1, first), Store.NextOutbound(1)).ShouldBe((null, new StoredTime(20)));
    }

    [Fact]
    public void A_number_is_never_given_twice()
    {
        static byte[] Key(int n) => [.. Enumerable.Repeat((byte)n, 32)];
        GatheringRow Gathering(int n) =>
            new(0, Key(n), NotificationId.New(DateTime.UnixEpoch.AddDays(n)), "rule", 1, new StoredTime(10), [], "", ReceiptLevel.None, null);
        var aside = new SetAsideRow(new StoredTime(10), AsideKind.Due, 0, "why", "{}");
        var first = InOne(s => (s.AddOutbound(1, Outbound(10)), s.SetAside(1, aside), s.AddGathering(1, Gathering(1))));
        InOne(s =>
        {
            s.RemoveOutbound(1, first.Item1);
            s.RemoveSetAside(1, first.Item2);
            s.RemoveGathering(1, first.Item3);
        });
        Again();
        var next = InOne(s => (s.AddOutbound(1, Outbound(10)), s.SetAside(1, aside), s.AddGathering(1, Gathering(2))));
        (next.Item1, next.Item2, next.Item3).ShouldBe((first.Item1 + 1, first.Item2 + 1, first.Item3 + 1));
    }

    [Fact]
    public void What_became_of_each_is_kept_and_sent_mails_are_counted()
    {
        var mail = new OtherwiseMail("bridge@marrowsound.example", null, "Late");
        var sent = NotificationId.New(DateTime.UnixEpoch.AddDays(20_000));
        InOne(s =>
        {
            s.SaveDeadline(1, new DeadlineRow(5, 0, new DeadlineTerms(ReceiptState.Read, TimeSpan.FromMinutes(1), true, []),
                new StoredTime(20), DeadlineState.Missed, new StoredTime(20)));
            for (int i = 0; i < 3; i++) s.SaveOtherwise(1, 5, 0, new OtherwiseRow(i, mail));
            s.SaveOtherwise(1, 5, 0, new OtherwiseRow(0, mail, OtherwiseState.Done, new StoredTime(30)));
            s.SaveOtherwise(1, 5, 0, new OtherwiseRow(1, mail, OtherwiseState.Done, new StoredTime(40), sent));
            s.SaveOtherwise(1, 5, 0, new OtherwiseRow(2, mail, OtherwiseState.Waiting, new StoredTime(40)));
        });
        Again().Deadlines(1, 5).Single().Otherwise.ShouldBe([
            new OtherwiseRow(0, mail, OtherwiseState.Done, new StoredTime(30)),
            new OtherwiseRow(1, mail, OtherwiseState.Done, new StoredTime(40), sent),
            new OtherwiseRow(2, mail, OtherwiseState.Waiting, new StoredTime(40))]);
        (Store.MailsSince(1, new StoredTime(29)), Store.MailsSince(1, new StoredTime(30)), Store.MailsSince(2, default)).ShouldBe(
            (2, 1, 0));
        InOne(s => s.EraseOtherwise(1, 5));
        Store.Deadlines(1, 5).Single().Otherwise.ShouldBeEmpty();
    }
}
