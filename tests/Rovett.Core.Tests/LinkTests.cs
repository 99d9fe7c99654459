using System.Text;
using CsCheck;
using Google.Protobuf;
using Rovett.Core.Delivery;
using Rovett.Core.Links;
using Rovett.Core.Links.Frames;
using Rovett.Core.Marks;
using Rovett.Core.Notifications;
using Rovett.Core.Store;
using Rovett.Core.Visibility;
using Rovett.Core.Wire;
using Shouldly;
using Xunit;
using Channels = Rovett.Core.Visibility.ChannelList;
using Totals = Rovett.Core.Visibility.Totals;

namespace Rovett.Core.Tests;

/// <summary>Sessions that another node holds: what the ledger's side says arrives there as it was meant, in order.</summary>
public class LinkTests
{
    static readonly SessionLimits Limits = new()
    { Window = 100, MaxQueued = 100, Heartbeat = TimeSpan.FromSeconds(30), AckTimeout = TimeSpan.FromSeconds(30) };

    readonly List<Commit> sent = [];
    readonly List<string> bugs = [];
    readonly List<(uint Session, string Address)> leftOut = [];
    readonly HeldSessions held;
    readonly LinkPort port;

    public LinkTests()
    {
        held = new HeldSessions(new RecentBySpace(), (session, address) => leftOut.Add((session, address)), (where, error) => bugs.Add(error.Message));
        port = new LinkPort(7, sent.Add);
    }

    static OutgoingEntry Entry(long position, string title = "Something happened") => new(EntryKind.Notification, new Position(position),
        new StoredTime(position * 1000), NotificationId.New(DateTimeOffset.UnixEpoch), $"c{position}", Encoding.UTF8.GetBytes($"\"title\":\"{title}\""));

    static EntryRun Run(params OutgoingEntry[] entries) => new([.. entries.Select(e => e.WireFor("role:engineer"))], 3, 5);

    (RemoteSession Remote, Session Held) Pair(uint number, long[]? marks = null)
    {
        var session = new Session(TransportKind.WebSocket, Limits, TimeSpan.Zero, static () => { });
        held.Add(number, session);
        var remote = new RemoteSession(port, number, session.Room);
        var all = (marks ?? []).Append(0).Select(_ => new DispatchMark()).ToArray();
        for (int i = 0; i < all.Length - 1; i++) all[i].Advance(marks![i]);
        remote.Join(1, new DispatchMark(), all);
        remote.Joined();
        return (remote, session);
    }

    /// <summary>Everything sent arrives, as bytes.</summary>
    void Arrive()
    {
        foreach (var commit in sent) held.Apply(Commit.Parser.ParseFrom(commit.ToByteArray()));
        sent.Clear();
    }

    static string Drained(Session session)
    {
        var buffer = new byte[64 * 1024];
        return Encoding.UTF8.GetString(buffer, 0, session.Drain(buffer, out _));
    }

    void Live(params (RemoteSession Remote, Session Held)[] pairs)
    {
        foreach (var (remote, _) in pairs) remote.EnterLive(0, [], "c0", 0, default).ShouldBe(remote == pairs[0].Remote);
        port.Flush();
        Arrive();
        foreach (var (_, session) in pairs)
        {
            session.Open([], default);
            Drained(session).ShouldContain("\"kind\":\"current\"");
        }
    }

    [Fact]
    public void A_notification_for_many_sessions_is_there_once()
    {
        var pairs = Enumerable.Range(1, 50).Select(i => Pair((uint)i)).ToArray();
        Live(pairs);
        var run = Run(Entry(10), Entry(11));
        for (int i = 0; i < pairs.Length; i++) pairs[i].Remote.Offer(run, i, 100 + i, isLast: true).ShouldBe(i == 0);
        port.Flush();
        var commit = sent.ShouldHaveSingleItem();
        (commit.Entries.Count, commit.Runs.Count, commit.Ops.Count).ShouldBe((2, 1, 1));
        Arrive();
        for (int i = 0; i < pairs.Length; i++)
        {
            var text = Drained(pairs[i].Held);
            text.ShouldContain("\"cursor\":\"c10\"");
            text.ShouldContain($"\"unread\":{101 + i}");
            text.ShouldContain($"\"rev\":{i}");
            pairs[i].Held.Through.ShouldBe(11);
        }
        held.RecentOf(7).Find(11)!.Cursor.ShouldBe("c11");
        bugs.ShouldBeEmpty();
    }

    [Fact]
    public void What_is_not_the_users_any_more_does_not_leave_and_what_comes_before_it_does()
    {
        var one = Pair(1);
        Live(one);
        var sight = new Core.Delivery.Sight(new Dictionary<long, Core.Visibility.LogSight> { [4] = new([new Segment(0, 9, 0)], [new OrdinalRun(2, 3)]) },
            new HashSet<string> { "user:mara" }, new Dictionary<string, bool> { ["role:deck"] = true });
        one.Remote.Offer(Run(Entry(10, "engineers only")), 0, 1, isLast: false);
        one.Remote.Tell(new ControlMessage("said", null, "{\"said\":1}"u8.ToArray()) { Shows = new ChannelContent("topic:berth/3", ChannelView.Content) });
        one.Remote.Tell(new ControlMessage("presence", null, "{\"people\":1}"u8.ToArray()) { Shows = new ChannelContent("role:deck", ChannelView.People) });
        one.Remote.Tell(new ControlMessage("presence", null, "{\"count\":1}"u8.ToArray()) { Shows = new ChannelContent("role:deck", ChannelView.Count) });
        one.Remote.PlanChanged(2, sight);
        one.Remote.Tell(new ControlMessage("channels", null, "{\"channels\":[]}"u8.ToArray()) { Channels = new Channels(["user:mara"], []) });
        port.Flush();
        Arrive();
        var text = Drained(one.Held);
        text.ShouldNotContain("engineers only");
        text.ShouldNotContain("\"said\"");
        text.ShouldNotContain("\"people\"");
        text.ShouldContain("\"count\"");
        text.IndexOf("\"count\"", StringComparison.Ordinal).ShouldBeLessThan(text.IndexOf("\"channels\"", StringComparison.Ordinal));
        one.Held.Channels!.All.ShouldBe(["user:mara"]);
        one.Held.Outstanding.ShouldBe(0);
    }

    [Fact]
    public void A_device_that_comes_back_is_told_what_is_a_repeat()
    {
        var (remote, session) = Pair(1, [10]);
        remote.EnterLive(0, [(new PageItem(Entry(9), "user:mara", 3, 1), 0, 1), (new PageItem(Entry(12), "user:mara", 3, 2), 0, 2)], "c12", 12, default);
        port.Flush();
        Arrive();
        session.Open([], default);
        var text = Drained(session);
        text.Split("\"attempt\":2").Length.ShouldBe(2, "one of the two was written to an earlier session of the device");
        text.Split("\"attempt\":1").Length.ShouldBe(2);
        remote.Written(12).ShouldBe(0, "no connection of the user had taken anything");
        remote.Written(13).ShouldBe(12);
    }

    [Fact]
    public void A_session_that_is_not_where_it_was_thought_to_be_reads_another_page()
    {
        var (remote, session) = Pair(1);
        session.Open([], new Position(20));
        session.Feed([], 30, complete: true, version: 1, default);
        remote.EnterLive(29, [], "c31", 31, default);
        port.Flush();
        Arrive();
        session.IsLive.ShouldBeFalse();
        session.Next().Need.ShouldBe(SessionNeed.Page);
        session.Feed([], 31, complete: true, version: 1, default);
        remote.EnterLive(31, [], "c31", 31, default);
        port.Flush();
        Arrive();
        session.IsLive.ShouldBeTrue();
    }

    [Fact]
    public void Presence_for_which_there_is_no_room_is_shown_again()
    {
        var (remote, session) = Pair(1);
        Live((remote, session));
        int again = 0;
        for (int i = 0; i < Limits.MaxPassing + 1; i++)
        {
            remote.OfferPassing($"presence role:deck {i}", new ControlMessage("presence", null, "{}"u8.ToArray())
            { Shows = new ChannelContent("role:deck", ChannelView.People) }, () => again++);
        }
        port.Flush();
        Arrive();
        leftOut.ShouldBe([(1u, "role:deck")]);
        remote.LeftOut("role:deck");
        remote.LeftOut("role:bridge");
        again.ShouldBe(1);
    }

    [Fact]
    public void What_concerns_a_session_that_is_over_is_passed_by_and_what_is_unknown_breaks_the_link()
    {
        var one = Pair(1);
        var two = Pair(2);
        Live(one, two);
        held.Remove(1);
        var run = Run(Entry(10));
        one.Remote.Offer(run, 0, 1, isLast: true);
        two.Remote.Offer(run, 0, 1, isLast: true);
        one.Remote.Dismiss(Messages.Ending("moved", 0));
        Arrive();
        Drained(two.Held).ShouldContain("c10");
        two.Remote.Dismiss(Messages.Ending("moved", 0));
        Arrive();
        two.Held.IsEnded.ShouldBeTrue();
        Drained(two.Held).ShouldContain("\"reason\":\"moved\"");
        Should.Throw<InvalidDataException>(() => held.Apply(new Commit { Space = 7, Ops = { new Op() } }));
    }

    static readonly Gen<long> Number = Gen.Long[0, long.MaxValue / 4];
    static readonly Gen<string> Text = Gen.String[Gen.Char.AlphaNumeric, 0, 12];
    static readonly Gen<Segment> Segments = Gen.Select(Number, Number, Gen.Int[0, 5], (lo, hi, index) => new Segment(lo, hi, index));
    static readonly Gen<ChannelList> Lists = Gen.Select(Text.List[0, 4], Text.List[0, 2], (all, subscribed) => new ChannelList(all, subscribed));
    static readonly Gen<Totals> AnyTotals = Gen.Select(Number, Number, Number, (unread, asOf, rev) => new Totals(unread, new StoredTime(asOf), rev));

    static readonly Gen<Core.Visibility.PlannedLog> Logs = Gen.Select(Number, Text.List[1, 3], Segments.List[1, 4], Number, Number, Gen.Bool,
        (log, addresses, segments, trimmed, lost, subscribed) => new Core.Visibility.PlannedLog(log, addresses, segments, trimmed,
            new LostNotification(lost, lost + 1, new StoredTime(lost + 2)))
        { SubscribedMuted = subscribed && segments[0].Hi - segments[0].Lo < 100_000 ? new OrdinalSet() : null });

    [Fact]
    public void A_plan_arrives_as_it_was() => Gen.Select(Number, Gen.Int, Logs.List[0, 5], Number, AnyTotals, Text, Number, Lists).Sample(
        (person, version, logs, head, totals, address, at, channels) =>
        {
            var plan = new Core.Visibility.ReadPlan(person, 7, version, logs, new Position(head), new TotalsBy(totals, [KeyValuePair.Create(address, head)]),
                at, channels);
            var read = LinkCodec.Read(Core.Links.Frames.ReadPlan.Parser.ParseFrom(LinkCodec.Of(plan).ToByteArray()));
            (read.Person, read.Space, read.Version, read.Head, read.RolesChangedAt, read.Totals.Totals)
                .ShouldBe((plan.Person, plan.Space, plan.Version, plan.Head, plan.RolesChangedAt, plan.Totals.Totals));
            read.Totals.By.ShouldBe(plan.Totals.By);
            read.Channels.All.ShouldBe(channels.All);
            read.Channels.Subscribed.ShouldBe(channels.Subscribed);
            read.Logs.Count.ShouldBe(logs.Count);
            foreach (var (log, was) in read.Logs.Zip(logs))
            {
                (log.Log, log.Trimmed, log.Lost, log.SubscribedMuted is null).ShouldBe((was.Log, was.Trimmed, was.Lost, was.SubscribedMuted is null));
                log.Addresses.ShouldBe(was.Addresses);
                log.Segments.ShouldBe(was.Segments);
            }
        }, iter: 300);

    [Fact]
    public void What_is_muted_of_a_topic_arrives_with_the_plan()
    {
        var muted = new OrdinalSet();
        foreach (var run in (OrdinalRun[])[new(3, 5), new(9, 9), new(5000, 5002)]) muted.Add(run);
        var log = new Core.Visibility.PlannedLog(4, ["topic:berth/3"], [new Segment(1, 6000, 0)], 0, default) { SubscribedMuted = muted };
        var plan = new Core.Visibility.ReadPlan(1, 7, 1, [log], new Position(1), new TotalsBy(default, []), 0, new Channels([], []));
        var read = LinkCodec.Read(Core.Links.Frames.ReadPlan.Parser.ParseFrom(LinkCodec.Of(plan).ToByteArray())).Logs[0].SubscribedMuted!;
        for (int ordinal = 2; ordinal <= 6000; ordinal++) read.Contains(ordinal).ShouldBe(muted.Contains(ordinal), $"{ordinal}");
    }

    [Fact]
    public void A_refusal_and_a_credential_arrive_as_they_were()
    {
        var problem = Values.Problem.Invalid([new FieldError("topic", "is no topic"), new FieldError("after", "is no cursor")]) with { RetryAfterSeconds = 3 };
        var read = LinkCodec.Read(Core.Links.Frames.Problem.Parser.ParseFrom(LinkCodec.Of(problem).ToByteArray()));
        read.Errors.ShouldBe(problem.Errors);
        (read with { Errors = [] }).ShouldBe(problem with { Errors = [] });
        foreach (var roles in (string[]?[])[null, [], ["deck", "bridge"]])
        {
            var identity = new Ledgers.Identity(new Addresses.UserId("mara"), roles, 12345, "{\"a\":1}");
            var back = LinkCodec.Read(Core.Links.Frames.Identity.Parser.ParseFrom(LinkCodec.Of(identity).ToByteArray()));
            (back with { Roles = null }).ShouldBe(identity with { Roles = null });
            back.Roles.ShouldBe(roles);
        }
        LinkCodec.Read(LinkCodec.Of("main", "mara", "phone", true, [new AckedRun(3, new OrdinalRun(1, 4)), new AckedRun(9, new OrdinalRun(2, 2))]))
            .ShouldBe([new AckedRun(3, new OrdinalRun(1, 4)), new AckedRun(9, new OrdinalRun(2, 2))]);
    }
}
