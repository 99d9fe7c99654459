using System.Diagnostics;
using System.Text;
using System.Text.Json;
using Rovett.Core.Addresses;
using Rovett.Core.Delivery;
using Rovett.Core.Ledgers;
using Rovett.Core.Ledgers.Commands.Life;
using Rovett.Core.Ledgers.Commands.Marking;
using Rovett.Core.Ledgers.Commands.Sending;
using Rovett.Core.Ledgers.Commands.Sessions;
using Rovett.Core.Ledgers.Commands.Spaces;
using Rovett.Core.Ledgers.Commands.Topics;
using Rovett.Core.Marks;
using Rovett.Core.Notifications;
using Rovett.Core.Policies;
using Rovett.Core.Visibility;
using Rovett.Core.Wire;
using Rovett.Storage.Sql;
using Rovett.Storage.Sqlite;
using Shouldly;
using Xunit;

namespace Rovett.Core.Tests;

/// <summary>The ledger over a real store, without the service around it.</summary>
public sealed class LedgerTests : IDisposable
{
    readonly string folder = Directory.CreateTempSubdirectory("rovett-ledger-").FullName;
    LedgerOptions options = new() { KeepCount = 10 };
    SqlLedgerStore store = null!;
    Ledger ledger = null!;

    public LedgerTests() => Start();

    void Start()
    {
        store = SqliteFiles.OpenHistory(Path.Combine(folder, "history.db"));
        ledger = new Ledger(store, options, TimeProvider.System, new RecentBySpace());
    }

    void Restart()
    {
        store.Dispose();
        Start();
    }

    public void Dispose()
    {
        store.Dispose();
        Directory.Delete(folder, recursive: true);
    }

    T Ask<T>(LedgerCommand<T> command)
    {
        ledger.Process([command]);
        return command.Task.GetAwaiter().GetResult();
    }

    NotificationId Send(Address to, string subject) =>
        Ask(new SendCommand("main",
        new Draft([to], [], Encoding.UTF8.GetBytes($"\"subject\":\"{subject}\""),
        new NotificationTraits("test", subject, ReceiptLevel.Totals, null)), null, false)).Id;

    [Fact]
    public void What_waits_of_presence_that_is_not_watched_any_more_does_not_leave()
    {
        Load("\"subscribe\",\"presence\"");
        var session = new Session(TransportKind.WebSocket, new SessionLimits(), TimeSpan.Zero, () => { });
        var mara = Ask(new AttachCommand("main", new Identity(new UserId("mara"), [], 1), "phone", session)).User;
        session.Open([], new Position(0));
        Waiting();
        var berth = new Address(AddressKind.Topic, "berth/3");
        Ask(new WatchCommand("main", mara, session, berth, 10)).Allowed.ShouldBeTrue();
        Waiting().ShouldContain("presence");
        Ask(new WatchCommand("main", mara, session, berth, 10)).Allowed.ShouldBeTrue();
        Ask(new UnwatchCommand("main", mara, session, berth)).ShouldBeTrue();
        Load("\"subscribe\"");
        Waiting().ShouldNotContain("presence");

        string Waiting()
        {
            var buffer = new byte[4096];
            return Encoding.UTF8.GetString(buffer, 0, session.Drain(buffer, out _));
        }
        void Load(string may) => Ask(new PutPoliciesCommand("main", May(may), "{}"u8.ToArray(), null));
    }

    List<Session> Connect(int count, Func<int, (string User, string[] Roles)> who)
    {
        var made = new List<Session>();
        for (int i = 0; i < count; i++)
        {
            var (user, roles) = who(i);
            var session = new Session(TransportKind.WebSocket, new SessionLimits(), TimeSpan.Zero, () => { });
            Ask(new AttachCommand("main", new Identity(new UserId(user), roles, 1), "phone", session));
            made.Add(session);
        }
        return made;
    }

    long Unread(string user, string role) =>
        Ask(new IdentifyAndPlanCommand("main", new Identity(new UserId(user), [role], 1))).Totals.Totals.Unread;

    TotalsBy Mark(MarkVerb verb, MarkSelector selector) => Ask(new MarkCommand("main", "mara", verb, selector, "desk", null));

    [Fact]
    public void Unread_counts_are_exact_when_what_was_read_is_trimmed_and_nobody_remembers_when()
    {
        Unread("mara", "engineer").ShouldBe(0);
        Send(Address.Role("engineer"), "a");
        var read = Send(Address.Role("engineer"), "b");
        Send(Address.Role("engineer"), "c");
        Mark(MarkVerb.Read, new MarkSelector([read], null, null, false)).Totals.Unread.ShouldBe(2);
        Restart();
        for (int round = 0; round < 3; round++)
        {
            for (int i = 0; i < 12; i++) Send(Address.User(new UserId("teo")), "other");
            Ask(new TrimCommand("main")); // in the end also what says that it was trimmed
        }
        Restart();
        Unread("mara", "engineer").ShouldBe(0);
        Send(Address.Role("engineer"), "d");
        Unread("mara", "engineer").ShouldBe(1);
    }

    [Fact]
    public void Saying_something_costs_by_those_who_hear_it_and_not_by_all_who_are_connected()
    {
        options = new LedgerOptions();
        Restart();
        var rules = PolicyReader.Read(
            JsonDocument.Parse(
            """{"policies":[{"name":"all","topic":"{any...}","may":["subscribe","say"],"when":{"anyone":true}}]}""").RootElement, []);
        Ask(new PutPoliciesCommand("main", rules, "{}"u8.ToArray(), null));
        var few = Connect(20, i => ($"few{i}", ["engineer"]));
        var speaker = Ask(new IdentifyCommand("main", new Identity(new UserId("few0"), null, 1)));
        foreach (var session in few) Ask(new SubscribeCommand("main", speaker, session, "berth/3", null, 10));
        double Cost()
        {
            double best = double.MaxValue;
            for (int round = 0; round < 5; round++)
            {
                var started = Stopwatch.GetTimestamp();
                for (int i = 0; i < 500; i++)
                {
                    Ask(new SayCommand("main", speaker, few[0], "berth/3", "1"u8.ToArray(), false)).Allowed.ShouldBeTrue();
                }
                best = Math.Min(best, Stopwatch.GetElapsedTime(started).TotalSeconds);
            }
            return best;
        }
        double alone = Cost();
        Connect(20_000, i => ($"many{i}", [i % 2 == 0 ? "deckhand" : "engineer"]));
        (Cost() / alone).ShouldBeLessThan(5, "times as long with 20,000 others connected");
    }

    static PolicySet May(string rights) => PolicyReader.Read(JsonDocument.Parse(
        $$$"""{"policies":[{"name":"berths","topic":"berth/{n}","may":[{{{rights}}}],"when":{"anyone":true}}]}""").RootElement, []);

    [Fact]
    public void Policies_change_the_rights_of_a_few_users_in_a_step_and_are_answered_after_the_last()
    {
        options = new LedgerOptions();
        Restart();
        Ask(new PutPoliciesCommand("main", May("\"follow\""), "{}"u8.ToArray(), null));
        var crew = Connect(23, i => ($"crew{i}", ["deckhand"]));
        foreach (int i in Enumerable.Range(0, 23)) Ask(new FollowCommand("main", $"crew{i}", "berth/3", true, 5));
        int Follow() => crew.Count(s => s.Channels!.All.Contains("topic:berth/3"));
        Follow().ShouldBe(23);
        var put = new PutPoliciesCommand("main", May(""), "{}"u8.ToArray(), null) { StepSize = 5 };
        var left = new List<int>();
        do
        {
            ledger.Process([put]);
            left.Add(Follow());
            put.Task.IsCompleted.ShouldBe(!put.IsUnfinished);
        }
        while (put.IsUnfinished);
        left.ShouldBe([18, 13, 8, 3, 0]);
        put.Task.IsCompletedSuccessfully.ShouldBeTrue();

        // It is the same for who comes back, and who has never been looked at.
        Restart();
        Ask(new IdentifyAndPlanCommand("main", new Identity(new UserId("crew7"), ["deckhand"], 1)))
            .Channels.All.ShouldNotContain("topic:berth/3");
    }

    [Fact]
    public async Task A_space_is_removed_when_its_sessions_have_ended_a_few_in_a_step()
    {
        options = new LedgerOptions();
        Restart();
        Connect(12, i => ($"crew{i}", ["deckhand"]));
        var remove = new RemoveSpaceCommand("main") { StepSize = 5 };
        ledger.Process([remove]);
        remove.IsUnfinished.ShouldBeTrue();
        store.FindSpace("main").ShouldNotBeNull();
        ledger.Process([remove]);
        ledger.Process([remove]);
        (await remove.Task).ShouldBe(12);
        store.FindSpace("main").ShouldBeNull();
    }

    [Fact]
    public void What_nobody_needs_leaves_memory_and_comes_back_right()
    {
        options = new LedgerOptions { MostIdleUsers = 20, MostLoose = 50 };
        Restart();
        Connect(10, i => ($"here{i}", [$"crew-{i}"]));
        for (int i = 0; i < 500; i++)
        {
            Send(Address.User(new UserId($"away{i}")), "x");
            Send(Address.Role($"crew-{i}"), "x");
            Unread($"away{i}", $"crew-{i}").ShouldBe(2, $"{i}");
        }
        for (int i = 0; i < 200; i++) Ask(new HeadCommand("main"));
        var (users, loose) = ledger.InMemory;
        users.ShouldBeInRange(10, 40);
        loose.ShouldBeLessThan(300);
        for (int i = 0; i < 500; i += 7) Unread($"away{i}", $"crew-{i}").ShouldBe(2);
        for (int i = 0; i < 10; i++) Unread($"here{i}", $"crew-{i}").ShouldBe(1);
    }

    [Fact]
    public void The_newest_entries_of_all_spaces_have_one_bound()
    {
        var recent = new RecentBySpace(100_000);
        OutgoingEntry Entry(int i) =>
            new(EntryKind.Notification, new Position(i), default, NotificationId.New(DateTimeOffset.UnixEpoch), "cursor", new byte[1000]);
        for (int i = 1; i <= 50; i++) recent.Of("quiet").Add(Entry(i));
        for (int space = 0; space < 20; space++)
        {
            for (int i = 1; i <= 200; i++) recent.Of($"busy-{space}").Add(Entry(i));
        }
        recent.Bytes.ShouldBeInRange(50_000, 100_000);
        recent.Of("quiet").Find(50).ShouldNotBeNull();
        recent.Of("busy-19").Find(200).ShouldNotBeNull();
        for (int space = 0; space < 20; space++) recent.Remove($"busy-{space}");
        recent.Of("quiet").Clear();
        recent.Bytes.ShouldBe(0);
    }

    [Fact]
    public void What_is_kept_by_number_is_trimmed_once_and_not_again_while_nothing_comes()
    {
        Unread("mara", "engineer");
        for (int i = 0; i < 30; i++) Send(Address.User(new UserId("mara")), "t");
        Ask(new TrimCommand("main")).ShouldBeGreaterThan(0);
        long left = Unread("mara", "engineer");
        left.ShouldBeInRange(8, 10);
        for (int round = 0; round < 5; round++) Ask(new TrimCommand("main")).ShouldBe(0);
        Unread("mara", "engineer").ShouldBe(left);
    }

    [Theory]
    [InlineData(MarkVerb.Read)]
    [InlineData(MarkVerb.Unread)]
    public void Marking_much_is_done_in_parts_and_comes_to_the_same(MarkVerb verb)
    {
        var other = new LedgerOptions { KeepCount = 100_000 };
        ledger = new Ledger(store, other, TimeProvider.System, new RecentBySpace());
        Unread("mara", "engineer");
        for (int i = 0; i < 300; i++)
        {
            Send(i % 3 == 0 ? Address.User(new UserId("mara")) : Address.Role("engineer"), i % 2 == 0 ? "even" : "odd");
        }
        if (verb == MarkVerb.Unread) Mark(MarkVerb.Read, new MarkSelector(null, null, "even", false)).Totals.Unread.ShouldBe(150);
        var selector = new MarkSelector(null, null, verb == MarkVerb.Read ? "even" : null, verb == MarkVerb.Unread);
        MarkProgress? from = null;
        int steps = 0;
        long before = verb == MarkVerb.Read ? 300 : 150, last = before;
        for (; ; )
        {
            var step = new MarkCommand("main", "mara", verb, selector, "desk", null, null, 20, from);
            Send(Address.User(new UserId("teo")), "between"); // whatever comes between
            long unread = Ask(step).Totals.Unread;
            Math.Abs(unread - last).ShouldBeLessThanOrEqualTo(40);
            (last, steps) = (unread, steps + 1);
            if ((from = step.Rest) is null) break;
        }
        steps.ShouldBeGreaterThan(4);
        last.ShouldBe(verb == MarkVerb.Read ? 150 : 300);
        Unread("mara", "engineer").ShouldBe(last);
        Restart();
        Unread("mara", "engineer").ShouldBe(last);
    }
}
