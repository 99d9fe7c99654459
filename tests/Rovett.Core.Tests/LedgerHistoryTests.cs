using System.Text;
using CsCheck;
using Microsoft.Extensions.Time.Testing;
using Rovett.Core.Addresses;
using Rovett.Core.AddressLogs;
using Rovett.Core.Delivery;
using Rovett.Core.Ledger;
using Rovett.Core.Marks;
using Rovett.Storage.Sqlite;
using Shouldly;
using Xunit;

namespace Rovett.Core.Tests;

/// <summary>Generated histories through the real ledger on a real store, judged after every commit by the reference
/// model: who sees what, by which address, how many unread, what connected devices are offered, with which number.</summary>
public class LedgerHistoryTests
{
    static readonly string[] Users = ["mara", "ivo", "teo"];
    static readonly string[] Roles = ["engineer", "deckhand", "bridge"];
    static readonly Address[] Addresses = [.. Users.Select(u => Address.User(new UserId(u))), .. Roles.Select(Address.Role), Address.Everyone];
    static readonly TimeSpan Newcomers = TimeSpan.FromHours(48.5); // no sum of whole hours

    abstract record Step;
    sealed record Send(int To, int Except, bool Subject) : Step;
    sealed record Token(string User, int Roles, int Age) : Step;
    sealed record Connect(string User) : Step;
    sealed record Disconnect(string User) : Step;
    sealed record Mark(string User, MarkVerb Verb, int Kind, int Which) : Step;
    sealed record Later(int Hours) : Step;
    sealed record Restart : Step;

    static readonly Gen<string> User = Gen.Int[0, Users.Length - 1].Select(i => Users[i]);
    static readonly Gen<Step> AnyStep = Gen.Frequency(
        (8, Gen.Select(Gen.Int[1, 127], Gen.Int[0, 63], Gen.Bool, (to, except, subject) => (Step)new Send(to, except & (except >> 1), subject))),
        (4, Gen.Select(User, Gen.Int[-1, 7], Gen.Int[-1, 1], (u, r, a) => (Step)new Token(u, r, a))),
        (3, User.Select(u => (Step)new Connect(u))),
        (1, User.Select(u => (Step)new Disconnect(u))),
        (6, Gen.Select(User, Gen.Int[0, 2].Select(i => (MarkVerb)i), Gen.Int[0, 3], Gen.Int[0, 100], (u, v, k, w) => (Step)new Mark(u, v, k, w))),
        (2, Gen.Int[1, 40].Select(h => (Step)new Later(h))),
        (1, Gen.Const((Step)new Restart())));

    [Fact]
    public void Every_history_gives_everybody_exactly_what_the_reference_says() =>
        AnyStep.List[1, 4].List[1, 12].Sample(batches =>
        {
            using var world = new World();
            foreach (var batch in batches) world.Run(batch);
        }, iter: 400);

    sealed class Observer : ILedgerObserver
    {
        public readonly Dictionary<(long, long), long> PositionOf = [];
        public void Stored(string space, OutgoingNotification notification, string addressing, IReadOnlyList<Placement> placements)
        {
            foreach (var p in placements) PositionOf[(p.Log, p.Ordinal)] = notification.Position.Value;
        }
        public void Marked(string space, long log, OrdinalRun run, MarkKind kind, int sign) { }
    }

    sealed class FakeSession : ISessionPort
    {
        public readonly List<(long Position, string Address, long Unread)> Offered = [];
        public bool Offer(NotificationWire wire, long log, long ordinal, long rev, long unread)
        {
            Offered.Add((wire.Notification.Position.Value, wire.Address, unread));
            return false;
        }
        public void Flush() { }
        public void Tell(ControlMessage message) { }
        public void EnterLive(IReadOnlyList<(PageItem Item, long Rev, long Unread)> rest, string cursor, long position, Totals totals) { }
        public void PlanChanged(int version, IReadOnlySet<long>? allowed) { }
        public void StoreLost() { }
    }

    sealed class World : IDisposable
    {
        readonly string folder = Directory.CreateTempSubdirectory("rovett-model-").FullName;
        readonly FakeTimeProvider clock = new(new DateTimeOffset(2026, 11, 23, 8, 0, 0, TimeSpan.Zero));
        readonly ReferenceModel reference = new(Newcomers);
        readonly Observer observer = new();
        readonly Dictionary<string, (FakeSession Session, UserState User)> connected = [];
        readonly Dictionary<int, NotificationId> ids = [];
        SqliteLedgerStore store;
        Ledger.Ledger ledger;
        long issued = 1_000_000;

        public World() => (store, ledger) = Open();

        (SqliteLedgerStore, Ledger.Ledger) Open()
        {
            var opened = new SqliteLedgerStore(Path.Combine(folder, "history.db"));
            return (opened, new Ledger.Ledger(opened, new LedgerOptions { Newcomers = Newcomers }, clock, new RecentBySpace(), observer));
        }

        public void Run(List<Step> steps)
        {
            var commands = new List<LedgerCommand>();
            var checks = new List<Action>();
            foreach (var step in steps) Add(step, commands, checks);
            Commit(commands, checks);
            CheckEverybody();
        }

        void Commit(List<LedgerCommand> commands, List<Action> checks)
        {
            ledger.Process(commands);
            foreach (var check in checks) check();
            commands.Clear();
            checks.Clear();
        }

        void Add(Step step, List<LedgerCommand> commands, List<Action> checks)
        {
            switch (step)
            {
                case Send s:
                    var to = Addresses.Where((_, i) => (s.To >> i & 1) != 0).ToList();
                    var except = Addresses.Where((a, i) => (s.Except >> i & 1) != 0 && !to.Contains(a)).ToList();
                    var subject = s.Subject ? "vessel/turnstone" : null;
                    var sent = reference.Send(clock.GetUtcNow(), to, except, subject);
                    var expected = Users.Where(u => connected.ContainsKey(u) && reference.Reaches(u, sent) is not null)
                        .Select(u => (User: u, Offer: (sent.Position, reference.Reaches(u, sent)!, reference.Unread(u)))).ToList();
                    var send = new SendCommand("main", new Draft(to, except, Encoding.UTF8.GetBytes($"\"n\":{sent.Number}"), subject), null, false);
                    commands.Add(send);
                    checks.Add(() =>
                    {
                        send.Task.Result.Position.Value.ShouldBe(sent.Position);
                        ids[sent.Number] = send.Task.Result.Id;
                    });
                    foreach (var (user, offer) in expected)
                    {
                        var session = connected[user].Session;
                        checks.Add(() => session.Offered.ShouldContain(offer));
                    }
                    foreach (var (user, (silent, _)) in connected)
                    {
                        if (expected.All(e => e.User != user)) checks.Add(() => silent.Offered.ShouldNotContain(o => o.Position == sent.Position));
                    }
                    break;
                case Token t:
                    Attach(t.User, t.Roles < 0 ? null : [.. Roles.Where((_, i) => (t.Roles >> i & 1) != 0)], issued += t.Age, false, commands, checks);
                    break;
                case Connect c when !connected.ContainsKey(c.User):
                    Attach(c.User, null, issued, true, commands, checks);
                    break;
                case Disconnect d when connected.TryGetValue(d.User, out var gone):
                    Commit(commands, checks);
                    ledger.Process([new DetachCommand("main", connected[d.User].User, gone.Session)]);
                    connected.Remove(d.User);
                    break;
                case Mark m:
                    Commit(commands, checks);
                    AddMark(m, commands, checks);
                    break;
                case Later l:
                    Commit(commands, checks);
                    clock.Advance(TimeSpan.FromHours(l.Hours));
                    break;
                case Restart:
                    Commit(commands, checks);
                    store.Dispose();
                    (store, ledger) = Open();
                    connected.Clear();
                    break;
            }
        }

        void Attach(string user, string[]? roles, long issuedAt, bool live, List<LedgerCommand> commands, List<Action> checks)
        {
            reference.Token(clock.GetUtcNow(), user, roles, issuedAt);
            var session = live ? new FakeSession() : null;
            var attach = new AttachCommand("main", new Identity(new UserId(user), roles, issuedAt), live ? _ => session! : null, true);
            commands.Add(attach);
            if (live) connected[user] = (session!, null!);
            long unread = reference.Unread(user);
            var holds = reference.Of(user).Holds.ToList();
            checks.Add(() =>
            {
                attach.Task.Result.Totals.Unread.ShouldBe(unread);
                attach.Task.Result.Channels.Skip(1).ShouldBe(holds, ignoreOrder: true);
                if (live) connected[user] = (session!, attach.Task.Result.User);
            });
        }

        void AddMark(Mark m, List<LedgerCommand> commands, List<Action> checks)
        {
            var person = reference.Of(m.User);
            var visible = reference.Visible(m.User).ToList();
            MarkSelector selector;
            List<ReferenceModel.Sent> meant;
            switch (m.Kind)
            {
                case 0 when reference.All.Count > 0:
                    var one = reference.All[m.Which % reference.All.Count];
                    selector = new MarkSelector([ids[one.Number]], null, null, false);
                    meant = [.. visible.Where(v => v == one)];
                    break;
                case 1:
                    long upTo = reference.Head == 0 ? 0 : m.Which % (reference.Head + 1);
                    selector = new MarkSelector(null, (new Position(upTo), "cursor"), null, false);
                    meant = [.. visible.Where(v => v.Position <= upTo)];
                    break;
                case 2:
                    selector = new MarkSelector(null, null, "vessel/turnstone", false);
                    meant = [.. visible.Where(v => v.Subject is not null)];
                    break;
                default:
                    selector = new MarkSelector(null, null, null, true);
                    meant = visible;
                    break;
            }
            var mark = new MarkCommand("main", m.User, m.Verb, selector, "test", null);
            commands.Add(mark);
            bool refused = (selector.Ids is not null && meant.Count == 0) || !Exists(m.User);
            if (!refused)
            {
                foreach (var sent in meant)
                {
                    if (m.Verb == MarkVerb.Read) person.Read.Add(sent.Number);
                    if (m.Verb == MarkVerb.Unread) person.Read.Remove(sent.Number);
                    if (m.Verb != MarkVerb.Unread) person.Received.Add(sent.Number);
                }
            }
            long unread = reference.Unread(m.User);
            checks.Add(() =>
            {
                if (refused) mark.Task.Exception!.InnerException.ShouldBeOfType<ProblemException>().Problem.Status.ShouldBe(404);
                else mark.Task.Result.Totals.Unread.ShouldBe(unread);
            });
            Commit(commands, checks);
        }

        /// <summary>A user nobody has heard of has no inbox to mark.</summary>
        bool Exists(string user) => reference.Of(user).Holds.Any() || reference.All.Exists(s => s.To.Concat(s.To.Any(a => a.Kind != AddressKind.User) ? s.Except : []).Contains(Address.User(new UserId(user))));

        void CheckEverybody()
        {
            foreach (var user in Users)
            {
                var command = new PlanCommand("main", user, true);
                ledger.Process([command]);
                if (command.Task.Result is not { } plan)
                {
                    reference.Visible(user).ShouldBeEmpty();
                    continue;
                }
                plan.Totals.Totals.Unread.ShouldBe(reference.Unread(user), user);
                plan.Totals.By.Sum(b => b.Value).ShouldBe(reference.Unread(user));
                if (connected.TryGetValue(user, out var live)) live.User.Unread.ShouldBe(reference.Unread(user), $"{user}, kept while connected");
                var seen = new List<(long Position, string Address, bool Read, bool Received)>();
                foreach (var log in plan.Logs)
                {
                    foreach (var s in log.Segments)
                    {
                        for (long o = s.Lo + 1; o <= s.Hi; o++)
                        {
                            if (!log.Skips.Contains(o)) seen.Add((observer.PositionOf[(log.Log, o)], log.Addresses[s.AddressIndex], log.Read!.Contains(o), log.Received!.Contains(o)));
                        }
                    }
                }
                var person = reference.Of(user);
                seen.Order().ShouldBe(reference.Visible(user).Select(v => (v.Position, reference.Reaches(user, v)!, person.Read.Contains(v.Number), person.Received.Contains(v.Number))).Order(), user);
            }
        }

        public void Dispose()
        {
            store.Dispose();
            Directory.Delete(folder, recursive: true);
        }
    }
}
