using System.Diagnostics;
using System.Runtime.InteropServices;
using Rovett.Core.Delivery;
using Rovett.Core.Marks;
using Rovett.Core.Nodes;
using Rovett.Core.Presence;
using Rovett.Core.Store;
using Rovett.Core.Wire;

namespace Rovett.Core.Ledgers;

/// <summary>The single serialised history of a store. Commands are carried out in the order given, many in one commit:
/// each decides, writes and changes memory; its messages to sessions are held back until the commit is on disk.
/// No I/O of its own but the store's; not thread-safe.</summary>
public sealed partial class Ledger(ILedgerStore store, OptionsInForce options, TimeProvider time, RecentBySpace recent,
    ILedgerObserver? observer = null, ILedgerFaults? faults = null, Agendas? agendas = null, INodeLink? link = null,
    IAnswerGate? gate = null) : IPresenceBatch
{
    const int MostDeposed = 3;

    readonly Dictionary<string, SpaceState> spaces = [];
    readonly List<SpaceState> touched = []; // by the attempt under way: only these differ from the store until it is committed
    readonly List<LedgerCommand> written = [];
    readonly List<(LedgerCommand Command, ProblemException Refusal)> refused = [];
    readonly List<ISessionPort> attached = [];
    readonly List<Action<ILedgerObserver>> toObserve = [];
    readonly List<Action> toUndo = [];
    readonly Dictionary<(long Log, MarkKind Kind, long Ordinal), long> tallies = [];
    readonly Agendas agendas = agendas ?? new Agendas();
    readonly Residents residents = new(options.Now.MostIdleUsers, options.Now.MostLoose);
    bool storeFailing;
    long attempt;
    readonly ServiceClock clock = time as ServiceClock ?? new ServiceClock(time);
    StoredTime? started;

    readonly INodeLink link = link ?? new DirectLink();
    NodeView? view;
    FanOut? fanOut;

    /// <summary>Where what the commit under way means for sessions is gathered.</summary>
    internal NodePort Port { get; } = new();

    NodeView View => view ??= new NodeView((where, error) => faults?.Bug(null, where, error));

    /// <summary>How many times the node had another total of a user than this ledger; readable from any thread.</summary>
    public long Drifted => View.DriftedCount;

    internal ILedgerStore Store => store;

    /// <summary>Stored notifications that are not offered yet.</summary>
    internal FanOut FanOut => fanOut ??= new FanOut(this);
    internal LedgerOptions Options => options.Now;

    /// <summary>How many times a notification was offered to somebody since this ledger was made.</summary>
    public long Offered => FanOut.Offered;

    /// <summary>The last attempt to write failed; readable from any thread.</summary>
    public bool StoreFailing { get => Volatile.Read(ref storeFailing); private set => Volatile.Write(ref storeFailing, value); }

    /// <summary>No deadline of a space counts as missed before this, while sessions are still reconnecting.</summary>
    internal StoredTime DeadlinesFrom(SpaceState space) => new(Math.Max((started ??= Due).Micros, space.Agenda.ServedSince.Micros)
        + (long)options.Now.ReconnectWindow.TotalMicroseconds);

    /// <summary>Where in a trace what is carried out was asked for; null: in none.</summary>
    internal ActivityContext? Trace { get; set; }

    /// <summary>The time.</summary>
    internal ServiceClock Clock => clock;

    /// <summary>Now, as a stored time would be.</summary>
    internal StoredTime Now => StoredTime.From(clock.GetUtcNow());

    /// <summary>The due time now.</summary>
    internal StoredTime Due => clock.Due;

    /// <summary>Carries out a batch. Each command is completed or failed when this returns.</summary>
    /// <remarks>A refusal is one command's answer. A store failure undoes the attempt and fails every command that would have written.
    /// A bug fails the command that has it; the others are carried out again without it.</remarks>
    public void Process(IReadOnlyList<LedgerCommand> batch)
    {
        started ??= Due;
        residents.Trim(spaces.Values);
        CarryOut(batch);
    }

    void CarryOut(IReadOnlyList<LedgerCommand> batch)
    {
        int deposed = 0;
        while (Attempt(batch, out var culprit) is { } error)
        {
            var where = touched.Count == 1 ? touched[0].Row.Name : null;
            store.Rollback();
            // What was decided on what is not so any more can fail in any way.
            if (error is not DeposedException && store.Deposed(touched.ConvertAll(static s => s.Id)) is { } why) error = why;
            Recover();
            Send();
            if (error is DeposedException { IsLost: true } lost && Others(batch, lost, culprit) is { } others)
            {
                if (others.Count == 0) return;
                batch = others;
                continue;
            }
            if (error is DeposedException && ++deposed < MostDeposed) continue; // all of it again, on what is stored by now
            if (error is DeposedException || store.IsFailure(error))
            {
                StoreFailing = true;
                faults?.StoreFailed(error);
                // Reads are retried alone, so that a failed write does not fail them.
                List<LedgerCommand> again = batch.Count > 1 ? [.. batch.Where(c => c.MayOnlyRead)] : [];
                foreach (var command in batch.Except(again)) Drop(command, error);
                foreach (var command in again) CarryOut([command]);
                return;
            }
            if (culprit is null && batch.Count > 1)
            {
                foreach (var command in batch) CarryOut([command]); // shows whose it is
                return;
            }
            culprit ??= batch[0];
            faults?.Bug(where, culprit.GetType().Name, error);
            Drop(culprit, error);
            batch = [.. batch.Where(c => c != culprit)];
            if (batch.Count == 0) return;
        }
        Publish();
    }

    /// <summary>Refuses the commands of a space that is another's, and lets the space go.</summary>
    /// <returns>The other commands; null: none was of that space.</returns>
    List<LedgerCommand>? Others(IReadOnlyList<LedgerCommand> batch, DeposedException lost, LedgerCommand? culprit)
    {
        var name = lost.Space == 0 ? "" : spaces.Values.FirstOrDefault(s => s.Id == lost.Space)?.Row.Name ?? culprit?.Space ?? "";
        List<LedgerCommand> others = [.. batch.Where(c => c.Space != name)];
        if (others.Count == batch.Count) return null;
        if (name.Length > 0) LetGo(name);
        if (StoreFailing)
        {
            // It answers; and a space that is another's can't show whether it takes writes.
            StoreFailing = false;
            faults?.StoreRecovered();
        }
        faults?.Moved(name);
        var refusal = Moved(name).ToException();
        foreach (var command in batch)
        {
            if (command.Space == name) Drop(command, refusal);
        }
        Send();
        return others;
    }

    /// <summary>What is answered for a space that another process serves by now.</summary>
    public static Problem Moved(string space) => new(503, "space-moved", "Space has moved",
        $"{(space.Length == 0 ? "What belongs to no space" : $"The space '{space}'")} is served by another node by now; " +
        "nothing of this request was stored.",
        "Try again: every node passes requests on to the one that serves the space.")
    { RetryAfterSeconds = 1 };

    /// <summary>Another process serves a space from now on: its sessions end, to come back there, and nothing is remembered of
    /// it.</summary>
    internal void LetGo(string name)
    {
        recent.Of(name).Clear();
        agendas.Of(name).Forget();
        if (!spaces.Remove(name, out var space)) return;
        Touch(space); // should this batch fail, its sessions are ended by the next attempt
        foreach (var place in space.WithSessions.SelectMany(u => u.Sessions).ToList())
        {
            Port.Add(new NodeMove(place.Session, Messages.Ending("moved", options.Now.ComeBackWithinMs)));
        }
    }

    void Drop(LedgerCommand command, Exception error)
    {
        try
        {
            command.AfterFailure(this);
        }
        catch (Exception bug)
        {
            faults?.Bug(null, command.GetType().Name, bug);
        }
        Send();
        command.Fail(error);
    }

    /// <summary>Writes and commits a batch.</summary>
    /// <param name="batch">The commands.</param>
    /// <param name="culprit">The command that threw; null when it was the commit.</param>
    /// <returns>The exception; null: it is on disk.</returns>
    Exception? Attempt(IReadOnlyList<LedgerCommand> batch, out LedgerCommand? culprit)
    {
        attempt++;
        touched.Clear();
        written.Clear();
        refused.Clear();
        culprit = null;
        bool lasting = false, begun = false;
        foreach (var command in batch)
        {
            lasting |= !command.MaySyncLater;
            begun |= command.NeedsStore;
        }
        try
        {
            if (begun)
            {
                store.Begin(lasting);
                ReadAnew(store.Changed());
                if (store.ReadsAhead) ReadAhead(batch);
            }
            foreach (var command in batch)
            {
                culprit = null;
                if (!command.OnlySends) FanOut.Flush();
                culprit = command;
                command.Reset();
                Trace = command.Trace;
                long began = command.IsFrequent ? 0 : Stopwatch.GetTimestamp();
                try
                {
                    command.Execute(this);
                    written.Add(command);
                }
                catch (ProblemException refusal)
                {
                    refused.Add((command, refusal)); // it changed nothing before it said so
                }
                if (began != 0) command.Held = Stopwatch.GetElapsedTime(began);
            }
            culprit = null;
            WriteTallies();
            if (begun)
            {
                var used = touched.ConvertAll(static s => s.Id);
                store.Commit(used);
                if (!lasting && written.Exists(static c => c.MustLast)) store.Sync(used);
                if (storeFailing && written.Exists(static c => c.ShowsStoreWorks))
                {
                    StoreFailing = false;
                    faults?.StoreRecovered();
                }
            }
            return null;
        }
        catch (Exception error)
        {
            return error;
        }
    }

    void ReadAhead(IReadOnlyList<LedgerCommand> batch)
    {
        foreach (var commands in batch.GroupBy(static c => c.Space))
        {
            if (!spaces.TryGetValue(commands.Key, out var space)) continue;
            var ahead = new AheadList();
            foreach (var command in commands) command.Needs(ahead);
            ahead.Users.RemoveWhere(u => space.InMemory(u) is { } known && (known.Logs is not null || !ahead.WithLogs.Contains(u)));
            ahead.WithLogs.IntersectWith(ahead.Users);
            if (!ahead.IsEmpty) store.ReadAhead(space.Id, ahead);
        }
    }

    /// <summary>The attempt is on disk: what it means for sessions goes to the node, and the answers after it.</summary>
    void Publish()
    {
        FanOut.Flush();
        attached.Clear();
        toUndo.Clear();
        if (observer is not null)
        {
            foreach (var tell in toObserve)
            {
                try
                {
                    tell(observer);
                }
                catch (Exception error)
                {
                    faults?.Bug(null, nameof(ILedgerObserver), error);
                }
            }
        }
        toObserve.Clear();
        foreach (var command in written)
        {
            if (command.StepSize > 0) command.Stored();
        }
        written.RemoveAll(static c => c.IsUnfinished);
        LedgerCommand[] done = [.. written];
        (LedgerCommand Command, ProblemException Refusal)[] failed = [.. refused];
        Port.Add(new NodeThen(() =>
        {
            foreach (var (command, refusal) in failed) command.Fail(refusal);
            Complete(done);
        }));
        Send();
    }

    void Complete(LedgerCommand[] done)
    {
        var revoking = gate is null ? [] : Array.FindAll(done, static c => c.MayRevoke);
        foreach (var command in done)
        {
            if (gate is null || !command.MayRevoke) command.Complete();
        }
        if (revoking.Length == 0) return;
        gate!.WhenItCounts([.. revoking.Select(c => c.Space).Distinct()], () =>
        {
            foreach (var command in revoking) command.Complete();
        });
    }

    /// <summary>Sends what was gathered for sessions.</summary>
    void Send()
    {
        if (!Port.IsEmpty) link.Send(new NodeCommit(Port.Take(), View));
    }

    /// <summary>Whether a session is fed: for checkers.</summary>
    internal bool Feeds(string space, ISessionPort session) =>
        spaces.TryGetValue(space, out var state) && state.Connected.All.Any(u => u.Sessions.Exists(s => s.Session == session));

    /// <summary>How many users, and how many logs, addresses, roles and topics are in memory, in all spaces: for checkers.</summary>
    internal (int Users, int Loose) InMemory => (spaces.Values.Sum(s => s.UsersInMemory), spaces.Values.Sum(s => s.Loose));

    /// <summary>A user as the ledger has it: for checkers.</summary>
    internal UserState? UserOf(string space, string user) => spaces.TryGetValue(space, out var state) ? state.Find(user) : null;

    /// <summary>The subject a session attends, and whether its user is indexed by it: for checkers.</summary>
    internal (string? Subject, bool Listed) AttendsOf(string space, ISessionPort session)
    {
        if (!spaces.TryGetValue(space, out var state)) return default;
        var user = state.Connected.All.FirstOrDefault(u => u.Sessions.Exists(s => s.Session == session));
        var subject = user?.Sessions.Find(s => s.Session == session)?.Attends;
        return (subject, subject is not null && state.Connected.Attending(subject).Contains(user!));
    }

    /// <summary>Tells a session something once the commit is on disk.</summary>
    internal void Tell(SessionPlace place, ControlMessage message) => Port.Add(new NodeTell(place.Session, message));

    /// <inheritdoc cref="IPresenceBatch.Pass"/>
    internal void Pass(ISessionPort session, string key, ControlMessage message, Action? leftOut) =>
        Port.Add(new NodePassing(session, key, message, leftOut));

    void IPresenceBatch.Pass(ISessionPort session, string key, ControlMessage message, Action? leftOut) =>
        Pass(session, key, message, leftOut);

    /// <summary>The session that caused what is being sent: it is not offered to it.</summary>
    internal ISessionPort? Origin { get; set; }

    void IPresenceBatch.Undo(Action undo) => Undo(undo);

    /// <summary>Notes a session that exists only if this commit succeeds.</summary>
    internal void Attached(ISessionPort session) => attached.Add(session);

    /// <summary>Notes how to undo a change to a session, should this commit fail.</summary>
    internal void Undo(Action undo) => toUndo.Add(undo);

    /// <summary>Calls the observer once the commit is on disk.</summary>
    internal void Observe(Action<ILedgerObserver> tell)
    {
        if (observer is not null) toObserve.Add(tell);
    }

    /// <summary>One more user (or one less) has marked a run: written at the end of the batch, all together.</summary>
    internal void Count(long log, MarkKind kind, OrdinalRun run, int sign)
    {
        Difference((log, kind, run.From), sign);
        Difference((log, kind, run.To + 1), -sign);
    }

    void Difference((long, MarkKind, long) at, int difference) =>
        CollectionsMarshal.GetValueRefOrAddDefault(tallies, at, out _) += difference;

    internal void WriteTallies()
    {
        foreach (var ((log, kind, ordinal), difference) in tallies)
        {
            if (difference != 0) store.AddTally(log, kind, ordinal, difference);
        }
        tallies.Clear();
    }

    internal SpaceState Space(string name)
    {
        if (!spaces.TryGetValue(name, out var space))
        {
            var row = store.TakeSpace(name)
                ?? throw new Problem(404, "unknown-space", "No such space", $"No space is called '{name}'.",
                "Check the path: /v1/… for the space main.").ToException();
            spaces[name] = space = new SpaceState(row, store, options, clock, recent.Of(name), residents, agendas.Of(name), Port);
        }
        Touch(space);
        return space;
    }

    void Touch(SpaceState space)
    {
        if (space.TouchedBy == attempt) return;
        space.TouchedBy = attempt;
        touched.Add(space);
    }

    /// <summary>Nothing is stored of removed spaces.</summary>
    internal void NothingToPurge() => agendas.MayPurge = false;

    /// <summary>A space was removed.</summary>
    internal void Forget(string name)
    {
        spaces.Remove(name);
        recent.Remove(name);
        agendas.Remove(name);
    }

    /// <summary>A space, or null when there is none by that name.</summary>
    internal SpaceState? SpaceIfAny(string name) => spaces.ContainsKey(name) || store.FindSpace(name) is not null ? Space(name) : null;

    /// <summary>Sets due work aside that cannot be carried out, and reports it.</summary>
    internal long SetAside(SpaceState space, SetAsideRow row, string what)
    {
        long number = store.SetAside(space.Id, row);
        space.Events.AddedAside(row.Detail.Length);
        faults?.SetAside(space.Row.Name, what, row.Why);
        return number;
    }

    /// <summary>The names of the spaces in memory.</summary>
    internal IReadOnlyList<string> KnownSpaces => [.. spaces.Keys];

    /// <summary>A space if it is in memory.</summary>
    internal SpaceState? Known(string name) => spaces.GetValueOrDefault(name);

    /// <summary>Counts one more of the user's own changes.</summary>
    internal void NextRev(UserState user)
    {
        user.Row = user.Row with { Rev = user.Row.Rev + 1 };
        store.SavePerson(user.Row);
        Port.Add(new NodeRev(user.Node, user.Rev));
    }
}
