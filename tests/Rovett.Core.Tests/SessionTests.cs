using System.Text;
using Rovett.Core.Delivery;
using Rovett.Core.Notifications;
using Rovett.Core.Store;
using Rovett.Core.Visibility;
using Rovett.Core.Wire;
using Shouldly;
using Xunit;

namespace Rovett.Core.Tests;

/// <summary>The session's state machine, by itself: no sockets, no clock.</summary>
public class SessionTests
{
    static readonly SessionLimits Limits = new()
    {
        Window = 4,
        MaxQueued = 8,
        AckTimeout = TimeSpan.FromSeconds(10),
        Heartbeat = TimeSpan.FromSeconds(20),
        QuestionsUntilSilent = 2
    };
    readonly byte[] buffer = new byte[64 * 1024];
    int woken;

    Session Behind(TransportKind transport = TransportKind.Sse)
    {
        var session = new Session(transport, Limits, TimeSpan.Zero, () => woken++);
        session.Join(0, new DispatchMark(), [new DispatchMark()]);
        session.Open([], new Position(0));
        return session;
    }

    Session Live(TransportKind transport = TransportKind.Sse)
    {
        var session = Behind(transport);
        session.Feed([], 0, true, 0, default);
        session.Next().Need.ShouldBe(SessionNeed.GoLive);
        session.EnterLive(session.Through, [], "cursor", 0, default);
        session.Flush();
        Drain(session).ShouldContain("current");
        return session;
    }

    static OutgoingEntry Notification(long position) =>
        new(EntryKind.Notification, new Position(position), new StoredTime(position), NotificationId.New(DateTimeOffset.UnixEpoch),
        $"cursor-{position}", Encoding.UTF8.GetBytes("\"title\":\"t\""));

    static PageItem Item(long position) => new(Notification(position), "role:engineer", 1, position);

    static bool Offer(Session session, long position, long unread = 1)
    {
        bool due = session.Offer(EntryRun.Of(Notification(position).WireFor("role:engineer"), 1, position), 0, unread, isLast: false);
        session.Flush();
        return due;
    }

    string Drain(Session session)
    {
        var text = new StringBuilder();
        while (session.Drain(buffer, out var large) is var count && (count > 0 || large is not null))
        {
            text.Append(Encoding.UTF8.GetString(large ?? buffer.AsSpan(0, count)));
            session.Written(TimeSpan.Zero);
        }
        return text.ToString();
    }

    static int Notifications(string drained) => drained.Split("event: notification").Length - 1;

    static void ShouldWait(Session session)
    {
        session.WaitsToOpen.ShouldBeTrue();
        session.Next().Need.ShouldBe(SessionNeed.None);
    }

    [Fact]
    public void Another_goes_on_with_its_connection_after_what_was_taken_to_be_written()
    {
        var session = Live();
        Offer(session, 1);
        Offer(session, 2);
        Notifications(Drain(session)).ShouldBe(2);
        Offer(session, 3);
        session.Answer(Messages.Done("asked", null)).ShouldBeTrue();
        var next = session.Successor(() => woken++)!;
        ShouldWait(next);
        next.StandsAt.ShouldBe(2);
        Drain(session).ShouldBeEmpty();
        session.IsDone.ShouldBeTrue();
        Offer(session, 4); // by who served it before
        next.Join(7, new DispatchMark(), [new DispatchMark()]);
        Offer(next, 3); // it is not live yet
        Drain(next).ShouldBeEmpty();
        next.Open([Messages.Heartbeat(default)], new Position(2));
        next.Feed([Item(3)], 4, true, 7, default);
        var written = Drain(next);
        Notifications(written).ShouldBe(1);
        written.ShouldContain("cursor-3");
        written.IndexOf("heartbeat", StringComparison.Ordinal).ShouldBeLessThan(written.IndexOf("asked", StringComparison.Ordinal));
        next.Next().Need.ShouldBe(SessionNeed.GoLive);
    }

    [Fact]
    public void What_was_taken_and_not_yet_written_is_written_by_the_one_that_goes_on()
    {
        var session = Live();
        Offer(session, 1);
        Drain(session);
        session.Answer(Messages.Done("asked", null));
        Offer(session, 2);
        Offer(session, 3);
        session.Drain(buffer, out _).ShouldBeGreaterThan(0);
        session.Answer(Messages.Done("asked later", null));
        var next = session.Successor(() => woken++)!;
        session.Begins().ShouldBeFalse();
        next.StandsAt.ShouldBe(1);
        next.Outstanding.ShouldBe(1);
        next.Join(0, new DispatchMark(), [new DispatchMark()]);
        next.Open([], new Position(1));
        var written = Drain(next);
        written.IndexOf("asked\"", StringComparison.Ordinal).ShouldBeInRange(0, written.IndexOf("asked later", StringComparison.Ordinal));

        next.Feed([Item(2), Item(3)], 3, true, 0, default);
        next.Drain(buffer, out _).ShouldBeGreaterThan(0);
        next.Begins().ShouldBeTrue();
        next.Successor(() => woken++)!.StandsAt.ShouldBe(3, "it is being written");
    }

    [Fact]
    public void What_a_message_told_that_was_not_written_is_told_again_to_the_one_that_goes_on()
    {
        var session = Live();
        Offer(session, 1);
        Drain(session);
        session.Tell(Messages.Channels(new ChannelList([], []), default)); // what changed with the entry 2, which is not for the user
        Offer(session, 3);
        session.Successor(() => woken++)!.StandsAt.ShouldBe(1);
    }

    [Fact]
    public void What_was_sent_before_another_went_on_is_acknowledged_to_either_of_them()
    {
        var session = Live();
        Offer(session, 1);
        Offer(session, 2);
        Drain(session);
        Offer(session, 3);
        var next = session.Successor(() => woken++)!;
        next.Outstanding.ShouldBe(2, "the third was not sent");
        var acked = new List<AckedRun>();
        session.Acknowledge(new Position(1), null, TimeSpan.Zero, acked).ShouldBeTrue();
        next.Acknowledge(new Position(9), null, TimeSpan.Zero, acked).ShouldBeTrue();
        acked.Sum(a => a.Run.Count).ShouldBe(2);
        next.Outstanding.ShouldBe(0);
    }

    [Fact]
    public void One_that_was_let_in_in_vain_is_given_up_for_another_that_stands_where_it_stood()
    {
        var session = Live();
        Offer(session, 1);
        Drain(session);
        var next = session.Successor(() => woken++)!;
        next.Join(3, new DispatchMark(), [new DispatchMark()]);
        next.EnterLive(0, [(Item(2), 0, 1)], "cursor", 2, default); // the answer was lost
        var third = next.Successor(() => woken++)!;
        third.StandsAt.ShouldBe(1);
        ShouldWait(third);
        third.Outstanding.ShouldBe(1);
        session.Successor(() => woken++).ShouldBeNull();
        third.End(Messages.Ending("moved", 0));
        Drain(third).ShouldContain("moved");
    }

    [Theory]
    [InlineData(false)]
    [InlineData(true)]
    public void A_notification_whose_repeat_was_not_written_is_repeated_by_the_one_that_goes_on(bool wasTaken)
    {
        var session = Live();
        var one = Notification(1);
        session.Offer(EntryRun.Of(one.WireFor("role:engineer"), 1, 1), 0, 1, isLast: true);
        Drain(session);
        session.WantAgain([one.Id], TimeSpan.Zero, out _).ShouldBeTrue();
        session.Tick(TimeSpan.FromSeconds(2));
        var again = session.TakeAgain();
        session.Repeat([(again[0], one.WireFor("role:engineer", 2))], 0, default);
        if (wasTaken) session.Drain(buffer, out _).ShouldBeGreaterThan(0);
        var next = session.Successor(() => woken++)!;
        next.StandsAt.ShouldBe(1);
        next.Join(0, new DispatchMark(), [new DispatchMark()]);
        next.Open([], new Position(1));
        next.Tick(TimeSpan.FromSeconds(10));
        next.Next().Need.ShouldBe(SessionNeed.Again);
        next.TakeAgain().ShouldBe([again[0]]);
    }

    [Fact]
    public void What_nothing_follows_leaves_without_a_flush()
    {
        var session = Live();
        int before = woken;
        session.Offer(EntryRun.Of(Notification(1).WireFor("role:engineer"), 1, 1), 0, 1, isLast: true).ShouldBeFalse();
        woken.ShouldBe(before + 1);
        Notifications(Drain(session)).ShouldBe(1);
        session.Through.ShouldBe(1);
    }

    [Fact]
    public void What_nothing_follows_does_not_overtake_what_waits()
    {
        var session = Live();
        session.Offer(EntryRun.Of(Notification(1).WireFor("role:engineer"), 1, 1), 0, 1, isLast: false).ShouldBeTrue();
        session.Offer(EntryRun.Of(Notification(2).WireFor("role:engineer"), 1, 2), 0, 2, isLast: true).ShouldBeFalse();
        Drain(session).ShouldBeEmpty();
        session.Flush();
        Notifications(Drain(session)).ShouldBe(2);
    }

    [Fact]
    public void Nothing_is_offered_before_it_is_live()
    {
        var session = Behind();
        Offer(session, 1).ShouldBeFalse();
        Drain(session).ShouldBeEmpty();
        session.Next().Need.ShouldBe(SessionNeed.Page);
    }

    [Fact]
    public void From_catch_up_to_live_there_is_no_hole_and_no_double()
    {
        var session = Behind();
        session.Feed([Item(1), Item(3)], 3, true, 0, default);
        session.Next().Need.ShouldBe(SessionNeed.None); // first what is queued
        Notifications(Drain(session)).ShouldBe(2);
        session.Feed([Item(3)], 3, true, 0, default); // the same page again
        Drain(session).ShouldBeEmpty();
        session.EnterLive(session.Through, [(Item(5), 0, 3)], "c6", 6, default);
        session.Flush();
        Offer(session, 7);
        var text = Drain(session);
        text.IndexOf("cursor-5", StringComparison.Ordinal).ShouldBeLessThan(text.IndexOf("event: current", StringComparison.Ordinal));
        text.IndexOf("event: current", StringComparison.Ordinal).ShouldBeLessThan(text.IndexOf("cursor-7", StringComparison.Ordinal));
        Notifications(text).ShouldBe(2);
    }

    [Fact]
    public void The_tail_has_one_width_whatever_the_numbers()
    {
        var wire = Notification(9).WireFor("user:mara");
        foreach (var transport in new[] { TransportKind.Sse, TransportKind.WebSocket })
        {
            var one = new byte[wire.Length(transport)];
            var two = new byte[wire.Length(transport)];
            wire.Write(transport, 0, 0, one);
            wire.Write(transport, 9_999_999_999, 1_234_567_890, two);
            int same = one.AsSpan().CommonPrefixLength(two);
            Encoding.UTF8.GetString(one, 0, same).ShouldEndWith("\"rev\":");
            Encoding.UTF8.GetString(two).ShouldContain("\"rev\":9999999999,\"unread\":1234567890}");
            Encoding.UTF8.GetString(one).ShouldContain("\"rev\":0         ,\"unread\":0         }");
        }
    }

    [Fact]
    public void Without_any_ack_the_socket_alone_sets_the_pace()
    {
        var session = Live();
        for (int i = 1; i <= 100; i++)
        {
            Offer(session, i);
            Notifications(Drain(session)).ShouldBe(1);
        }
        session.Outstanding.ShouldBe(100);
    }

    [Fact]
    public void The_first_ack_switches_credit_on_and_the_window_holds()
    {
        var session = Live();
        Offer(session, 1);
        Drain(session);
        session.Acknowledge(new Position(1), null, TimeSpan.Zero, []);
        for (int i = 2; i <= 10; i++) Offer(session, i);
        Notifications(Drain(session)).ShouldBe(Limits.Window);
        session.Next().Need.ShouldBe(SessionNeed.None); // out of credit: it asks for nothing
        session.Acknowledge(new Position(3), null, TimeSpan.Zero, []);
        session.Next().Need.ShouldBe(SessionNeed.Page);
        session.PageSize.ShouldBe(2);
        session.Through.ShouldBe(5);
    }

    [Fact]
    public void A_stuck_session_keeps_a_bounded_queue_and_goes_on_from_its_log()
    {
        var session = Live();
        for (int i = 1; i <= 10_000; i++) Offer(session, i);
        Notifications(Drain(session)).ShouldBe(Limits.MaxQueued);
        session.Through.ShouldBe(Limits.MaxQueued);
        session.Next().Need.ShouldBe(SessionNeed.Page);
    }

    [Fact]
    public void An_ack_covers_what_this_session_was_sent_and_no_more()
    {
        var session = Live();
        for (int i = 1; i <= 3; i++) Offer(session, i * 10);
        Drain(session);
        var acked = new List<AckedRun>();
        session.Acknowledge(new Position(25), null, TimeSpan.Zero, acked);
        acked.ShouldBe([new AckedRun(1, new OrdinalRun(10, 10)), new AckedRun(1, new OrdinalRun(20, 20))]);
        acked.Clear();
        session.Acknowledge(new Position(1_000_000), null, TimeSpan.Zero, acked);
        acked.ShouldBe([new AckedRun(1, new OrdinalRun(30, 30))]);
        acked.Clear();
        session.Acknowledge(null, [NotificationId.New(DateTimeOffset.UnixEpoch)], TimeSpan.Zero, acked).ShouldBeFalse();
        acked.ShouldBeEmpty();
    }

    [Fact]
    public void A_session_that_never_acknowledged_can_still_acknowledge_all_at_once()
    {
        var session = Live();
        for (int i = 1; i <= 5000; i++)
        {
            Offer(session, i);
            Drain(session);
        }
        var acked = new List<AckedRun>();
        session.Acknowledge(new Position(5000), null, TimeSpan.Zero, acked);
        acked.Sum(a => a.Run.Count).ShouldBe(5000);
    }

    [Fact]
    public void A_missing_ack_is_asked_for_and_then_the_session_is_silent_until_it_speaks()
    {
        var session = Live();
        Offer(session, 1);
        Offer(session, 2);
        Drain(session);
        session.Tick(TimeSpan.FromSeconds(30));
        Drain(session).ShouldNotContain("ackDue"); // it never acknowledged: nothing is expected of it
        session.Acknowledge(new Position(1), null, TimeSpan.FromSeconds(30), []);
        session.Tick(TimeSpan.FromSeconds(39));
        Drain(session).ShouldBeEmpty();
        for (int question = 1; question <= 3; question++)
        {
            session.Tick(TimeSpan.FromSeconds(30 + 10 * question));
            Drain(session).ShouldContain("event: ackDue");
            session.Silent.ShouldBe(question > Limits.QuestionsUntilSilent);
        }
        session.Acknowledge(new Position(2), null, TimeSpan.FromSeconds(61), []);
        session.Silent.ShouldBeFalse();
        session.Tick(TimeSpan.FromSeconds(300));
        Drain(session).ShouldBeEmpty(); // nothing is outstanding
    }

    [Fact]
    public void A_heartbeat_is_due_only_when_nothing_else_was_written()
    {
        var session = Live();
        session.Tick(TimeSpan.FromSeconds(19)).ShouldBeFalse();
        session.Tick(TimeSpan.FromSeconds(20)).ShouldBeTrue();
        session.Raw([1]);
        session.Drain(buffer, out _);
        session.Written(TimeSpan.FromSeconds(20));
        session.Tick(TimeSpan.FromSeconds(39)).ShouldBeFalse();
    }

    [Fact]
    public void What_waits_from_a_lost_role_is_not_written_any_more()
    {
        var session = Live();
        Offer(session, 1);
        session.Offer(EntryRun.Of(Notification(2).WireFor("user:mara"), 2, 1), 0, 1, isLast: false);
        session.Flush();
        session.PlanChanged(1, new Sight(new Dictionary<long, LogSight> { [2] = new([new Segment(0, long.MaxValue, 0)], []) }, new HashSet<string>(),
            new Dictionary<string, bool>()));
        var text = Drain(session);
        text.ShouldContain("user:mara");
        text.ShouldNotContain("role:engineer");
    }

    [Fact]
    public void A_page_read_under_an_older_plan_is_dropped()
    {
        var session = Behind();
        session.PlanChanged(1, null);
        session.Feed([Item(1)], 1, true, 0, default);
        Drain(session).ShouldBeEmpty();
        session.Next().ShouldBe((SessionNeed.Page, 1));
    }

    [Fact]
    public void After_the_last_words_nothing_is_written()
    {
        var session = Live();
        Offer(session, 1);
        session.End(Messages.Ending("shutdown", 100));
        Offer(session, 2);
        session.Tell(Messages.Current("c"));
        session.Flush();
        (session.IsEnded, session.IsDone).ShouldBe((true, false)); // a writer that found nothing before must look again
        var text = Drain(session);
        text.ShouldContain("event: ending");
        text.Split("event:").Length.ShouldBe(2);
        (session.IsEnded, session.IsDone).ShouldBe((true, true));
    }

    [Fact]
    public void A_device_that_asks_without_reading_is_ended()
    {
        var session = Live();
        int answered = 0;
        while (session.Answer(Messages.Done("x", null))) answered++;
        answered.ShouldBe(Limits.MaxAnswers);
        Drain(session).ShouldContain("too-slow");
    }

    [Fact]
    public void It_is_written_as_much_at_once_as_fits_and_whole_messages_only()
    {
        var session = Live();
        for (int i = 1; i <= 8; i++) Offer(session, i);
        int length = Notification(1).WireFor("role:engineer").Length(TransportKind.Sse);
        session.Drain(buffer.AsSpan(0, length * 3 + 5), out var large).ShouldBe(length * 3);
        large.ShouldBeNull();
        session.Drain(buffer.AsSpan(0, 10), out large).ShouldBe(0);
        large!.Length.ShouldBe(length);
    }

    [Fact]
    public void Totals_left_out_while_behind_are_told_on_the_way_back()
    {
        var session = Live();
        for (int i = 1; i <= 100; i++) Offer(session, i);
        Drain(session);
        session.Feed([], 100, true, 0, default);
        session.EnterLive(session.Through, [], "c", 100, new Totals(42, new StoredTime(1), 7));
        session.Flush();
        Drain(session).ShouldContain("\"unread\":42");
    }

    [Fact]
    public void What_belongs_together_leaves_together()
    {
        var session = Live();
        session.Offer(EntryRun.Of(Notification(1).WireFor("role:engineer"), 1, 1), 0, 1, isLast: false);
        session.Tell(Messages.TotalsNow(default));
        Drain(session).ShouldBeEmpty();
        session.Flush();
        Notifications(Drain(session)).ShouldBe(1);
        (session.Outstanding, session.Through, session.Next().Need).ShouldBe((1, 1, SessionNeed.None)); // it has everything there is;
    }

    [Fact]
    public void What_a_handler_failed_at_comes_again_later_and_later_with_its_attempt_and_not_for_ever()
    {
        var session = Live();
        var notification = Notification(1);
        session.Offer(EntryRun.Of(notification.WireFor("role:engineer"), 1, 1), 0, 1, isLast: false);
        session.Flush();
        Drain(session);
        var now = TimeSpan.Zero;
        for (int attempt = 2; attempt <= Limits.MaxAttempts; attempt++)
        {
            session.WantAgain([notification.Id], now, out bool tooOften).ShouldBeTrue();
            tooOften.ShouldBeFalse();
            session.Next().Need.ShouldBe(SessionNeed.None); // not at once
            now += TimeSpan.FromSeconds(300);
            session.Tick(now);
            session.Next().Need.ShouldBe(SessionNeed.Again);
            var due = session.TakeAgain().ShouldHaveSingleItem();
            due.Attempt.ShouldBe(attempt);
            session.Repeat([(due, notification.WireFor("role:engineer", due.Attempt))], 0, default);
            Drain(session).ShouldContain($"\"attempt\":{attempt},");
        }
        session.WantAgain([notification.Id], now, out bool often).ShouldBeTrue();
        often.ShouldBeTrue();
        session.WantAgain([NotificationId.New(DateTimeOffset.UnixEpoch)], now, out _).ShouldBeFalse();
    }

    [Fact]
    public void Of_ephemeral_ones_with_one_key_a_slow_session_gets_the_newest()
    {
        var session = Live();
        for (int i = 1; i <= 1000; i++)
        {
            session.OfferPassing("job.progress\n91",
                new ControlMessage("notification", null, Encoding.UTF8.GetBytes($"{{\"done\":{i}}}")), null);
        }
        for (int i = 1; i <= 1000; i++)
        {
            session.OfferPassing($"other {i}", new ControlMessage("notification", null, "{}"u8.ToArray()), null);
        }
        session.Flush();
        var drained = Drain(session);
        drained.ShouldContain("\"done\":1000}");
        Notifications(drained).ShouldBe(Limits.MaxPassing);
        session.Outstanding.ShouldBe(0);
    }
}
