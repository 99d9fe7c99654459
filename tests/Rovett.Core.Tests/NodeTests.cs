using System.Text;
using Rovett.Core.Addresses;
using Rovett.Core.Delivery;
using Rovett.Core.Ledgers;
using Rovett.Core.Ledgers.Commands.Directory;
using Rovett.Core.Ledgers.Commands.Life;
using Rovett.Core.Ledgers.Commands.Marking;
using Rovett.Core.Ledgers.Commands.Sending;
using Rovett.Core.Ledgers.Commands.Sessions;
using Rovett.Core.Nodes;
using Rovett.Core.Notifications;
using Rovett.Core.Wire;
using Rovett.Storage.Sql;
using Rovett.Storage.Sqlite;
using Shouldly;
using Xunit;

namespace Rovett.Core.Tests;

/// <summary>What a ledger tells the node that holds its sessions, when that comes late.</summary>
public sealed class NodeTests : IDisposable
{
    /// <summary>Keeps what is sent until it is let through.</summary>
    sealed class Late : INodeLink
    {
        readonly Queue<NodeCommit> waiting = new();

        public int Waiting => waiting.Count;

        public void Send(NodeCommit commit) => waiting.Enqueue(commit);

        public void LetThrough(int most = int.MaxValue)
        {
            while (most-- > 0 && waiting.TryDequeue(out var commit)) commit.Apply();
        }
    }

    sealed class Heard : ILedgerFaults
    {
        public readonly List<string> Bugs = [];

        public void Bug(string? space, string where, Exception error) => Bugs.Add($"{where}: {error.Message}");
        public void StoreFailed(Exception error) { }
        public void SetAside(string space, string what, string why) { }
        public void StoreRecovered() { }
    }

    readonly string folder = Directory.CreateTempSubdirectory("rovett-nodes-").FullName;
    readonly SqlLedgerStore store;
    readonly Ledger ledger;
    readonly Late link = new();
    readonly Heard faults = new();
    readonly byte[] buffer = new byte[64 * 1024];

    public NodeTests()
    {
        store = SqliteFiles.OpenHistory(Path.Combine(folder, "history.db"));
        ledger = new Ledger(store, new LedgerOptions(), TimeProvider.System, new RecentBySpace(), faults: faults, link: link);
    }

    public void Dispose()
    {
        store.Dispose();
        Directory.Delete(folder, recursive: true);
    }

    T Ask<T>(LedgerCommand<T> command)
    {
        ledger.Process([command]);
        link.LetThrough();
        return command.Task.GetAwaiter().GetResult();
    }

    static Identity Of(string user, params string[] roles) => new(new UserId(user), roles, 1);

    Session Connect(string user, params string[] roles)
    {
        var session = new Session(TransportKind.Sse, new SessionLimits(), TimeSpan.Zero, static () => { });
        session.Open([], Ask(new AttachCommand("main", Of(user, roles), "desk", session)).Head);
        Drain(session);
        return session;
    }

    string Drain(Session session)
    {
        var text = new StringBuilder();
        while (session.Drain(buffer, out _) is var count and > 0)
        {
            text.Append(Encoding.UTF8.GetString(buffer.AsSpan(0, count)));
            session.Written(TimeSpan.Zero);
        }
        return text.ToString();
    }

    static SendCommand Send(string title, params Address[] except) => new("main", new Draft([Address.Role("crew")], except,
        Encoding.UTF8.GetBytes($"\"title\":\"{title}\""), new NotificationTraits("test", null, ReceiptLevel.Totals, null)), null, false);

    [Fact]
    public void An_answer_comes_after_what_it_answers_for_has_reached_the_sessions()
    {
        var session = Connect("mara", "crew");
        var send = Send("first");
        ledger.Process([send]);
        send.Task.IsCompleted.ShouldBeFalse();
        Drain(session).ShouldBeEmpty();
        link.LetThrough();
        send.Task.IsCompletedSuccessfully.ShouldBeTrue();
        Drain(session).ShouldContain("\"first\"");
    }

    [Fact]
    public async Task What_happened_in_a_row_reaches_sessions_in_that_order_however_late()
    {
        var (mara, teo) = (Connect("mara", "crew"), Connect("teo", "crew"));
        var signOut = new SignOutCommand("main", "teo");
        ledger.Process([Send("before"), Send("not for teo", Address.User(new UserId("teo")))]);
        ledger.Process([new MuteCommand("main", "mara", true, "test", true)]);
        ledger.Process([Send("muted by mara"), signOut]);
        ledger.Process([Send("after")]);
        link.Waiting.ShouldBe(4);
        link.LetThrough(2);
        signOut.Task.IsCompleted.ShouldBeFalse();
        link.LetThrough();
        (await signOut.Task).Ended.ShouldBe(1);
        var (seen, left) = (Drain(mara), Drain(teo));
        new[] { "before", "not for teo", "muted by mara", "after" }.Where(t => seen.Contains($"\"{t}\"", StringComparison.Ordinal))
            .ShouldBe(["before", "not for teo"]);
        left.ShouldContain("signed-out");
        left.ShouldNotContain("\"after\"");
        left.ShouldNotContain("not for teo");
        teo.IsEnded.ShouldBeTrue();
        ledger.UserOf("main", "mara")!.Node.Unread.ShouldBe(2);
        Ask(new CheckTotalsCommand("main")).ShouldBe(1);
        ledger.Drifted.ShouldBe(0);
    }

    [Fact]
    public void Totals_that_drifted_are_found_told_of_and_set_right()
    {
        var session = Connect("mara", "crew");
        Ask(Send("first"));
        ledger.UserOf("main", "mara")!.Node.Unread += 7;
        Ask(new CheckTotalsCommand("main", 1, 1)).ShouldBe(0); // another part
        ledger.Drifted.ShouldBe(0);
        Ask(new CheckTotalsCommand("main"));
        ledger.Drifted.ShouldBe(1);
        faults.Bugs.ShouldHaveSingleItem().ShouldContain("unread 8, where the ledger has 0 and 1");
        Drain(session);
        Ask(Send("second"));
        Drain(session).ShouldContain("\"unread\":2");
    }

    [Fact]
    public void A_session_that_moved_on_before_it_goes_live_reads_another_page()
    {
        var session = new Session(TransportKind.Sse, new SessionLimits(), TimeSpan.Zero, static () => { });
        for (int i = 0; i < 100; i++) Ask(Send($"{i}")); // more than memory keeps of a log
        var attach = Ask(new AttachCommand("main", Of("mara", "crew"), "desk", session, new DevicePoint(0, false)));
        session.IsLive.ShouldBeFalse();
        session.Open([], new Position(0));
        session.Feed([], 100, true, attach.Plan!.Version, attach.Totals);
        var live = new GoLiveCommand("main", "mara", session, attach.Plan.Version, session.Through);
        ledger.Process([live]);
        session.Feed([], 101, true, attach.Plan.Version, attach.Totals);
        link.LetThrough();
        session.IsLive.ShouldBeFalse();
        session.Next().Need.ShouldBe(SessionNeed.Page);
    }
}
