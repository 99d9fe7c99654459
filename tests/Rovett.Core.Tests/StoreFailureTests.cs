using System.Reflection;
using System.Text;
using System.Text.Json;
using Rovett.Core.Addresses;
using Rovett.Core.Delivery;
using Rovett.Core.Ledgers;
using Rovett.Core.Ledgers.Commands.Marking;
using Rovett.Core.Ledgers.Commands.Sending;
using Rovett.Core.Ledgers.Commands.Sessions;
using Rovett.Core.Ledgers.Commands.Spaces;
using Rovett.Core.Ledgers.Commands.Topics;
using Rovett.Core.Marks;
using Rovett.Core.Notifications;
using Rovett.Core.Policies;
using Rovett.Core.Store;
using Rovett.Core.Wire;
using Rovett.Storage.Sql;
using Rovett.Storage.Sqlite;
using Shouldly;
using Xunit;

namespace Rovett.Core.Tests;

/// <summary>A commit that fails: nobody sees anything of it, everybody asked is told, and the next one is right.</summary>
public sealed class StoreFailureTests : IDisposable
{
    readonly string folder = Directory.CreateTempSubdirectory("rovett-failure-").FullName;
    readonly SqlLedgerStore store;
    readonly Failing failing;
    readonly Ledger ledger;
    readonly Session session;
    readonly Seen faults = new();
    readonly Hearing observer = new();
    Action woken = () => { };
    readonly byte[] buffer = new byte[64 * 1024];

    public StoreFailureTests()
    {
        store = SqliteFiles.OpenHistory(Path.Combine(folder, "history.db"));
        var proxy = DispatchProxy.Create<ILedgerStore, Failing>();
        failing = (Failing)(object)proxy;
        failing.Store = store;
        ledger = new Ledger(proxy, new LedgerOptions(), TimeProvider.System, new RecentBySpace(), observer, faults);
        session = new Session(TransportKind.Sse, new SessionLimits(), TimeSpan.Zero, () => woken());
        Ask(new AttachCommand("main", Mara(["engineer"], 1), "desk", session));
        session.Open([], new Position(1));
        session.IsLive.ShouldBeTrue("nothing was missed");
        Drain();
    }

    public void Dispose()
    {
        store.Dispose();
        Directory.Delete(folder, recursive: true);
    }

    public class Failing : DispatchProxy
    {
        public ILedgerStore Store = null!;
        public string? FailAt, BreakAt;

        /// <summary>So many of the next commits find that another has taken the space.</summary>
        public int Deposed;

        public bool IsLost;

        public int[] ChangedSpaces = [];

        protected override object? Invoke(MethodInfo? method, object?[]? args)
        {
            if (method!.Name == FailAt || (FailAt == "everything" && method.Name is not ("Begin" or "Changed" or "get_ReadsAhead" or "Rollback" or "IsFailure" or "Deposed")))
            {
                throw new IOException("No space left on device");
            }
            if (method.Name == "TakeSpace" && IsLost) throw new DeposedException(1, isLost: true);
            if (method.Name == "Commit" && Deposed-- > 0) throw new DeposedException(1, error: new IOException());
            if (method.Name == "Changed" && ChangedSpaces is { Length: > 0 } changed)
            {
                ChangedSpaces = [];
                return changed;
            }
            if (method.Name == BreakAt) throw new InvalidOperationException("a bug");
            try
            {
                return method.Invoke(Store, args);
            }
            catch (TargetInvocationException inner)
            {
                throw inner.InnerException!;
            }
        }
    }

    sealed class Seen : ILedgerFaults
    {
        public readonly List<(string? Space, string Where, string Message)> Bugs = [];
        public int StoreFailures, Recovered;
        public void Bug(string? space, string where, Exception error) => Bugs.Add((space, where, error.Message));
        public void StoreFailed(Exception error) => StoreFailures++;
        public void SetAside(string space, string what, string why) { }
        public void StoreRecovered() => Recovered++;
    }

    sealed class Hearing : ILedgerObserver
    {
        public bool Broken;
        public int Heard;
        public void Stored(string space, OutgoingEntry notification, Addressing addressing, IReadOnlyList<Placement> placements)
        {
            Heard++;
            if (Broken) throw new InvalidOperationException("a broken observer");
        }
        public void Changed(string space, OutgoingEntry change) { }
        public void Marked(string space, long log, OrdinalRun run, MarkKind kind, int sign) { }
        public void Receipted(string space) { }
        public void Outbound(string space) { }
        public void DeadlineEnded(string space, bool isMet) { }
        public void Erased(string space, string user) { }
    }

    static Identity Mara(string[]? roles, long issuedAt) => new(new UserId("mara"), roles, issuedAt);

    T Ask<T>(LedgerCommand<T> command)
    {
        ledger.Process([command]);
        return command.Task.GetAwaiter().GetResult();
    }

    static Draft Titled(string title) => new([Address.Role("engineer")], [], Encoding.UTF8.GetBytes($"\"title\":\"{title}\""),
        new NotificationTraits("test", null, ReceiptLevel.Totals, null));

    static SendCommand Send(string title) => new("main", Titled(title), null, false);

    string Drain()
    {
        var text = new StringBuilder();
        while (session.Drain(buffer, out _) is var count and > 0) text.Append(Encoding.UTF8.GetString(buffer, 0, count));
        return text.ToString();
    }

    [Fact]
    public void Who_uses_topics_reconnects_when_policies_stopped_half_way_and_has_the_new_rights()
    {
        PolicySet May(string rights) => PolicyReader.Read(JsonDocument.Parse(
            $$$"""{"policies":[{"name":"berths","topic":"berth/{n}","may":[{{{rights}}}],"when":{"anyone":true}}]}""").RootElement, []);
        Ask(new PutPoliciesCommand("main", May("\"follow\""), "{}"u8.ToArray(), null));
        Ask(new FollowCommand("main", "mara", "berth/3", true, 5));
        var other = new Session(TransportKind.Sse, new SessionLimits(), TimeSpan.Zero, () => { });
        Ask(new AttachCommand("main", new Identity(new UserId("teo"), ["deckhand"], 1), "desk", other));
        other.Open([], new Position(1));
        Ask(new FollowCommand("main", "teo", "berth/3", true, 5));
        var put = new PutPoliciesCommand("main", May(""), "{}"u8.ToArray(), null) { StepSize = 1 };
        ledger.Process([put]);
        put.IsUnfinished.ShouldBeTrue();
        failing.FailAt = "Commit";
        ledger.Process([put]);
        failing.FailAt = null;
        put.IsUnfinished.ShouldBeFalse();
        Should.Throw<InDoubtException>(() => put.Task.GetAwaiter().GetResult());
        new[] { session, other }.ShouldAllBe(s => s.IsEnded);
        foreach (var user in (string[])["mara", "teo"])
        {
            Ask(new IdentifyAndPlanCommand("main", new Identity(new UserId(user), null, 1))).Channels.All
                .ShouldNotContain("topic:berth/3");
        }
    }

    [Fact]
    public void Marking_that_stops_half_way_tells_every_session_the_totals()
    {
        Ask(Send("first"));
        var second = Ask(Send("second"));
        Ask(Send("third"));
        Ask(new MarkCommand("main", "mara", MarkVerb.Read, new MarkSelector([second.Id], null, null, false), "desk", session));
        Drain();
        MarkCommand Step(MarkProgress? from) =>
            new("main", "mara", MarkVerb.Read, new MarkSelector(null, null, null, true), "desk", session, null, most: 1, from);
        var step = Step(null);
        Ask(step).Totals.Unread.ShouldBe(1, "two runs are unread, and a step marks one");
        var rest = step.Rest!;
        Drain().ShouldBeEmpty("it is answered when all of it is marked");
        failing.FailAt = "Commit";
        ledger.Process([Step(rest)]);
        failing.FailAt = null;

        session.Next().Need.ShouldBe(SessionNeed.Page);
        var plan = Ask(new PlanCommand("main", "mara", session))!;
        session.Feed([], plan.Head.Value, complete: true, plan.Version, plan.Totals.Totals);
        Ask(new GoLiveCommand("main", "mara", session, plan.Version, session.Through)).ShouldBeTrue();
        Drain().ShouldContain("\"totals\":{\"unread\":1,");
    }

    [Theory]
    [InlineData("Commit")]
    [InlineData("AppendEntry")]
    [InlineData("AppendItem")]
    [InlineData("Begin")]
    public void Nothing_of_a_failed_commit_is_seen_and_the_next_one_is_right(string at)
    {
        Ask(Send("first")).Position.Value.ShouldBe(2);
        Drain().ShouldContain("first");
        failing.FailAt = at;
        LedgerCommand[] batch = [Send("lost one"),
            new MarkCommand("main", "mara", MarkVerb.Read, new MarkSelector(null, null, null, true), "desk", null), Send("lost two")];
        ledger.Process(batch);
        ((SendCommand)batch[0]).Task.Exception!.InnerException.ShouldBeOfType<IOException>();
        ((MarkCommand)batch[1]).Task.IsFaulted.ShouldBeTrue();
        ((SendCommand)batch[2]).Task.IsFaulted.ShouldBeTrue();
        Drain().ShouldBeEmpty();

        failing.FailAt = null;
        Ask(Send("second")).Position.Value.ShouldBe(3); // no hole
        var seen = Drain();
        seen.ShouldContain("second");
        seen.ShouldNotContain("lost");
        seen.ShouldContain("\"rev\":0         ,\"unread\":2         }");
        var plan = Ask(new PlanCommand("main", "mara"))!;
        (plan.Totals.Totals.Unread, plan.Head.Value).ShouldBe((2, 3));
    }

    [Fact]
    public void A_store_that_answers_nothing_at_all_ends_the_sessions_with_a_word()
    {
        failing.FailAt = "everything";
        var send = Send("lost");
        ledger.Process([send]);
        send.Task.IsFaulted.ShouldBeTrue();
        Drain().ShouldContain("\"reason\":\"store-unavailable\"");
        failing.FailAt = null;
        Ask(Send("first")).Position.Value.ShouldBe(2);
    }

    [Fact]
    public void What_another_took_is_read_again_and_the_batch_carried_out_on_it()
    {
        Ask(Send("first"));
        Drain();
        failing.Deposed = 1;
        Ask(Send("second")).Position.Value.ShouldBe(3);
        Drain().ShouldContain("second");
        session.IsLive.ShouldBeTrue();
        failing.Deposed = 100;
        var never = Send("never");
        ledger.Process([never]);
        never.Task.Exception!.InnerException.ShouldBeOfType<DeposedException>();
        failing.Deposed = 0;
        Ask(Send("third")).Position.Value.ShouldBe(4);
    }

    [Fact]
    public void A_space_that_is_lost_after_a_failure_is_refused_and_the_store_fails_no_longer()
    {
        failing.FailAt = "Commit";
        ledger.Process([Send("fails")]);
        ledger.StoreFailing.ShouldBeTrue();
        (failing.FailAt, failing.Deposed, failing.IsLost) = (null, 1, true);
        var refused = Send("refused");
        ledger.Process([refused]);
        refused.Task.Exception!.InnerException.ShouldBeOfType<ProblemException>().Problem.Slug.ShouldBe("space-moved");
        ledger.StoreFailing.ShouldBeFalse("it answered, and the space can't show more");
        Drain().ShouldContain("moved");
    }

    [Fact]
    public async Task A_space_that_the_store_says_is_otherwise_is_read_again()
    {
        Ask(Send("first"));
        Drain();
        using (var other = SqliteFiles.OpenHistory(Path.Combine(folder, "history.db")))
        {
            var beside = new Ledger(other, new LedgerOptions(), TimeProvider.System, new RecentBySpace());
            var send = Send("of another");
            beside.Process([send]);
            (await send.Task).Position.Value.ShouldBe(3);
        }
        failing.ChangedSpaces = [1];
        Ask(Send("second")).Position.Value.ShouldBe(4);
        ledger.UserOf("main", "mara")!.CountUnread().ShouldBe(3);
        Drain().ShouldContain("second");
    }

    [Fact]
    public async Task What_comes_after_a_part_that_could_not_be_stored_is_not_stored_either()
    {
        var first = new SendManyCommand("main", [Titled("one"), Titled("two")]);
        var failed = new SendManyCommand("main", [Titled("three")], after: first);
        var next = new SendManyCommand("main", [Titled("four")], after: failed);
        var last = new SendManyCommand("main", [Titled("five")], after: next);
        ledger.Process([first]);
        failing.FailAt = "Commit";
        ledger.Process([failed]);
        failing.FailAt = null;
        ledger.Process([next, last, Send("of another request")]);
        (await first.Task).Select(o => o.Result!.Position.Value).ShouldBe([2, 3]);
        failed.Task.Exception!.InnerException.ShouldBeOfType<IOException>();
        foreach (var part in new[] { next, last })
        {
            part.Task.Exception!.InnerException.ShouldBeOfType<ProblemException>().Problem.Slug.ShouldBe("store-unavailable");
        }
        var seen = Drain();
        foreach (var title in new[] { "one", "two", "of another request" }) seen.ShouldContain($"\"title\":\"{title}\"");
        foreach (var title in new[] { "three", "four", "five" }) seen.ShouldNotContain($"\"title\":\"{title}\"");
    }

    [Fact]
    public async Task Parts_in_one_commit_are_stored_together()
    {
        var first = new SendManyCommand("main", [Titled("one")]);
        var second = new SendManyCommand("main", [Titled("two")], after: first);
        ledger.Process([first, second]);
        (await second.Task)[0].Result!.Position.Value.ShouldBe(3);
    }

    [Fact]
    public async Task A_refused_command_does_not_take_its_batch_with_it()
    {
        LedgerCommand[] batch = [Send("before"),
            new MarkCommand("main", "mara", MarkVerb.Read,
                new MarkSelector([NotificationId.New(DateTimeOffset.UnixEpoch)], null, null, false), "desk", null), Send("after")];
        ledger.Process(batch);
        ((MarkCommand)batch[1]).Task.Exception!.InnerException.ShouldBeOfType<ProblemException>();
        (await ((SendCommand)batch[0]).Task).Position.Value.ShouldBe(2);
        (await ((SendCommand)batch[2]).Task).Position.Value.ShouldBe(3);
        Drain().ShouldContain("after");
    }

    static MarkCommand MarkById() =>
        new("main", "mara", MarkVerb.Read, new MarkSelector([NotificationId.New(DateTimeOffset.UnixEpoch)], null, null, false),
        "desk", null);

    [Fact]
    public async Task A_bug_fails_its_one_command_and_the_others_of_its_batch_are_stored_once()
    {
        failing.BreakAt = "FindNotification";
        LedgerCommand[] batch = [Send("before"), MarkById(), Send("between"), new PlanCommand("main", "mara"), MarkById(), Send("after")];
        ledger.Process(batch);
        ((MarkCommand)batch[1]).Task.Exception!.InnerException.ShouldBeOfType<InvalidOperationException>();
        ((MarkCommand)batch[4]).Task.IsFaulted.ShouldBeTrue();
        new[] { batch[0], batch[2], batch[5] }.Cast<SendCommand>().Select(s => s.Task.Result.Position.Value).ShouldBe([2, 3, 4]);
        (await ((PlanCommand)batch[3]).Task)!.Totals.Totals.Unread.ShouldBe(2);
        faults.Bugs.ShouldBe([("main", "MarkCommand", "a bug"), ("main", "MarkCommand", "a bug")]);
        (faults.StoreFailures, ledger.StoreFailing).ShouldBe((0, false));
        var seen = Drain();
        foreach (var title in new[] { "before", "between", "after" }) seen.Split($"\"title\":\"{title}\"").Length.ShouldBe(2, title);
    }

    [Fact]
    public void A_bug_in_the_commit_itself_fails_only_the_commands_that_have_it()
    {
        failing.BreakAt = "Commit";
        var (one, two) = (Send("one"), Send("two"));
        ledger.Process([one, two]);
        (one.Task.IsFaulted, two.Task.IsFaulted, faults.Bugs.Count, ledger.StoreFailing).ShouldBe((true, true, 2, false));
        failing.BreakAt = null;
        Ask(Send("three")).Position.Value.ShouldBe(2);
        Drain().ShouldNotContain("one");
    }

    [Fact]
    public void A_failure_or_bug_in_one_space_leaves_the_sessions_of_another_alone()
    {
        Ask(new AddSpaceCommand("other", new byte[32]));
        var other = new Session(TransportKind.Sse, new SessionLimits(), TimeSpan.Zero, () => { });
        Ask(new AttachCommand("other", Mara(null, 1), "desk", other));
        other.Open([], new Position(1));
        int version = other.Next().PlanVersion;
        failing.BreakAt = "FindNotification";
        ledger.Process([MarkById()]);
        failing.FailAt = "Commit";
        ledger.Process([Send("lost")]);
        failing.FailAt = failing.BreakAt = null;
        other.Next().PlanVersion.ShouldBe(version, "its user was not counted anew");
        session.Next().PlanVersion.ShouldBeGreaterThan(version);
        Ask(Send("kept"));
        (faults.StoreFailures, faults.Recovered).ShouldBe((1, 1));
    }

    [Fact]
    public async Task A_refusal_that_rests_on_what_was_rolled_back_is_not_answered()
    {
        // The first command has a bug, after which the second would be refused; done without it, it is not.
        failing.BreakAt = "AddMute";
        Ask(new IdentifyCommand("main", Mara(["engineer"], 1)));
        var mute = new MuteCommand("main", "mara", true, "test", true);
        var send = Send("kept");
        ledger.Process([mute, send]);
        (mute.Task.IsFaulted, (await send.Task).Position.Value).ShouldBe((true, 2));
    }

    [Fact]
    public async Task What_throws_once_the_commit_is_on_disk_changes_no_answer_and_holds_up_nobody()
    {
        observer.Broken = true;
        bool broken = true;
        woken = () =>
        {
            if (broken) throw new InvalidOperationException("a broken session");
        };
        var (one, two) = (Send("one"), Send("two"));
        ledger.Process([one, two]);
        ((await one.Task).Position.Value, (await two.Task).Position.Value, observer.Heard).ShouldBe((2, 3, 2));
        faults.Bugs.ShouldContain(b => b.Message == "a broken observer");
        faults.Bugs.ShouldContain(b => b.Message == "a broken session");
        broken = false;
        Ask(Send("three")).Position.Value.ShouldBe(4);
        Ask(new PlanCommand("main", "mara"))!.Totals.Totals.Unread.ShouldBe(3);
    }

    [Fact]
    public void A_change_of_roles_whose_commit_failed_did_not_happen()
    {
        failing.FailAt = "Commit";
        var attach = new IdentifyCommand("main", Mara(["bridge"], 2));
        ledger.Process([attach]);
        attach.Task.IsFaulted.ShouldBeTrue();
        failing.FailAt = null;
        Ask(Send("still hers"));
        Drain().ShouldContain("still hers");
        Ask(new IdentifyAndPlanCommand("main", Mara(["bridge"], 2))).Channels.All.ShouldBe(["user:mara", "role:bridge", "everyone"]);
        Drain().ShouldContain("event: channels");
        Ask(Send("not hers"));
        Drain().ShouldBeEmpty();
    }
}
