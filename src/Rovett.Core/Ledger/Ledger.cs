using Rovett.Core.AddressLogs;
using Rovett.Core.Delivery;
using Rovett.Core.Marks;

namespace Rovett.Core.Ledger;

/// <summary>Hears what happened, after it is on disk; called on the ledger's thread, must be quick.</summary>
public interface ILedgerObserver
{
    /// <summary>A notification was stored.</summary>
    void Stored(string space, OutgoingNotification notification, string addressing, IReadOnlyList<Placement> placements);
    /// <summary>Ordinals of a log were received or read by one more user, or (<paramref name="sign"/> −1) are unread again.</summary>
    void Marked(string space, long log, OrdinalRun run, MarkKind kind, int sign);
}

/// <summary>The one serialised history of a store. Commands are carried out in the order given, many in one commit;
/// nothing they cause is seen before the commit is on disk. No I/O of its own but the store's; not thread-safe.</summary>
public sealed class Ledger(ILedgerStore store, LedgerOptions options, TimeProvider clock, RecentBySpace recent, ILedgerObserver? observer = null)
{
    readonly Dictionary<string, SpaceState> spaces = [];
    readonly List<LedgerCommand> written = [];
    readonly List<ISessionPort> toFlush = [];

    internal ILedgerStore Store => store;
    internal LedgerOptions Options => options;
    internal ILedgerObserver? Observer => observer;

    /// <summary>Set by a command whose consequences the next command must already see in memory.</summary>
    internal bool ApplyBeforeNext { get; set; }

    /// <summary>Now, as a stored time would be.</summary>
    internal StoredTime Now => StoredTime.From(clock.GetUtcNow());

    /// <summary>Carries out a batch. Each command is completed or failed when this returns.</summary>
    public void Process(IReadOnlyList<LedgerCommand> batch)
    {
        foreach (var space in spaces.Values) space.DropIdleUsers();
        int next = 0;
        while (next < batch.Count)
        {
            int first = next;
            written.Clear();
            try
            {
                bool begun = false;
                for (ApplyBeforeNext = false; next < batch.Count && !ApplyBeforeNext; next++)
                {
                    var command = batch[next];
                    if (written.Count > 0 && command.MustComeFirst(this)) break;
                    if (command.NeedsStore && !begun)
                    {
                        store.Begin();
                        begun = true;
                    }
                    try
                    {
                        command.Write(this);
                        written.Add(command);
                    }
                    catch (ProblemException refused)
                    {
                        command.Fail(refused); // it changed nothing before it said so
                    }
                }
                if (begun) store.Commit();
            }
            catch (Exception failed)
            {
                // Disk full, locked, broken: nothing of this part happened. Memory may be ahead of the store, so it goes.
                store.Rollback();
                Recover();
                for (int i = first; i < batch.Count; i++) batch[i].Fail(failed);
                return;
            }
            foreach (var command in written) command.Apply(this);
            foreach (var session in toFlush) session.Flush();
            toFlush.Clear();
        }
    }

    /// <summary>Has a session write what it was offered once the whole commit is carried out.</summary>
    internal void FlushLater(ISessionPort session) => toFlush.Add(session);

    internal SpaceState Space(string name)
    {
        if (spaces.TryGetValue(name, out var space)) return space;
        var row = store.FindSpace(name) ?? throw new Problem(404, "unknown-space", "No such space", $"There is no space '{name}'.", "Check the path: /v1/… is the space main.").Throw();
        return spaces[name] = new SpaceState(row, store, options, clock, recent.Of(name));
    }

    /// <summary>After a failed commit: every space is read again, and connected users are counted anew.</summary>
    void Recover()
    {
        foreach (var (name, old) in spaces.ToList())
        {
            spaces.Remove(name);
            var sessions = old.Connected.SelectMany(u => u.Sessions).ToList();
            if (sessions.Count == 0) continue;
            try
            {
                var fresh = Space(name);
                foreach (var user in old.Connected.ToList())
                {
                    var again = fresh.Find(user.Id.Value);
                    if (again is null) continue;
                    fresh.EnsureLogs(again);
                    again.Sessions.AddRange(user.Sessions);
                    again.Unread = again.CountUnread();
                    fresh.JoinAll(again);
                    user.Sessions.Clear();
                    again.PlanVersion = user.PlanVersion + 1;
                    foreach (var session in again.Sessions) session.PlanChanged(again.PlanVersion, null);
                }
            }
            catch (Exception)
            {
                // The store does not even answer reads: sessions end, and devices come back to a store that does.
                spaces.Remove(name);
                foreach (var session in sessions) session.StoreLost();
            }
        }
    }

    /// <summary>What a command may say about totals: as of now, but not later than what can still come.</summary>
    internal Totals TotalsOf(UserState user, long unread)
    {
        user.AsOf = new StoredTime(Math.Max(user.AsOf.Micros, Now.Micros - 1));
        return new Totals(unread, user.AsOf, user.Rev);
    }

    /// <summary>Counts a user's unread anew, in all and by address.</summary>
    internal TotalsBy CountBy(UserState user)
    {
        var by = new SortedDictionary<string, long>(StringComparer.Ordinal);
        long sum = 0;
        foreach (var log in user.Logs!)
        {
            foreach (var segment in log.Segments)
            {
                long unread = log.UnreadIn(segment);
                if (unread == 0) continue;
                sum += unread;
                var address = log.Log.Texts[segment.AddressIndex];
                by[address] = by.GetValueOrDefault(address) + unread;
            }
        }
        return new TotalsBy(TotalsOf(user, sum), [.. by]);
    }

    internal ReadPlan PlanFor(SpaceState space, UserState user, bool withMarks)
    {
        space.EnsureLogs(user);
        var logs = new List<PlannedLog>();
        foreach (var log in user.Logs!)
        {
            if (log.Log.Head == 0 || log.Segments.Length == 0) continue;
            logs.Add(new PlannedLog(log.Log.Id, log.Log.Texts,
                [.. log.Segments.Select(s => s with { Hi = Math.Min(s.Hi, log.Log.Head) })],
                log.Log.Dead.Clone(), log.Skips.Clone(), withMarks ? log.Read.Clone() : null, withMarks ? log.Received.Clone() : null));
        }
        return new ReadPlan(user, user.PlanVersion, logs, new Position(space.Head), CountBy(user));
    }

    /// <summary>Takes the roles a credential names into account.</summary>
    /// <returns>True when what the user holds changed.</returns>
    internal bool TakeRoles(SpaceState space, UserState user, Identity identity)
    {
        var (lost, gained) = ChangeOf(user, identity);
        bool newer = user.Seen is null || (identity.Roles is not null && identity.IssuedAtMicros > user.RolesIssuedAt);
        if (newer)
        {
            if (identity.Roles is not null) user.RolesIssuedAt = identity.IssuedAtMicros;
            user.Seen ??= Now;
        }
        if (lost.Count + gained.Count > 0)
        {
            var (position, time) = space.Draw();
            store.AppendEntry(space.Id, new EntryRow(position, time, EntryKind.Membership, default, MembershipBody(user, gained, lost), "", []));
            foreach (var address in lost)
            {
                store.CloseMembership(space.Id, user.PersonId, address, position.Value);
                int index = user.Memberships.FindIndex(m => m.Until is null && m.Address == address);
                user.Memberships[index] = user.Memberships[index] with { Until = position.Value };
            }
            foreach (var address in gained)
            {
                long lastLoss = user.Memberships.Where(m => m.Address == address).Select(m => m.Until ?? 0).DefaultIfEmpty(0).Max();
                var membership = new Membership(address, Math.Min(space.NewcomerStart(lastLoss), position.Value), null);
                store.OpenMembership(space.Id, user.PersonId, membership);
                user.Memberships.Add(membership);
            }
            SpaceState.ForgetLogs(user);
        }
        if (newer) store.SavePerson(user.PersonId, user.Seen, user.Rev, user.RolesIssuedAt);
        return lost.Count + gained.Count > 0;
    }

    /// <summary>What a credential takes from a user and gives.</summary>
    internal static (List<string> Lost, List<string> Gained) ChangeOf(UserState user, Identity identity)
    {
        var wanted = (identity.Roles?.Select(r => "role:" + r) ?? user.Held).Append("everyone").ToHashSet();
        if (user.Seen is not null && identity.Roles is not null)
        {
            if (identity.IssuedAtMicros < user.RolesIssuedAt) return ([], []); // an older token brings nothing back
            if (identity.IssuedAtMicros == user.RolesIssuedAt) wanted.IntersectWith(user.Held);
        }
        return ([.. user.Held.Where(a => !wanted.Contains(a)).Order(StringComparer.Ordinal)], [.. wanted.Where(a => !user.Holds(a)).Order(StringComparer.Ordinal)]);
    }

    static byte[] MembershipBody(UserState user, List<string> gained, List<string> lost)
    {
        var message = new MessageBuilder("membership");
        message.Writer.WriteString("user", user.Id.Value);
        foreach (var (name, list) in new[] { ("gained", gained), ("lost", lost) })
        {
            message.Writer.WriteStartArray(name);
            foreach (var address in list) message.Writer.WriteStringValue(address);
            message.Writer.WriteEndArray();
        }
        return message.Close();
    }
}

/// <summary>Something for the ledger to carry out.</summary>
public abstract class LedgerCommand
{
    /// <summary>False when nothing is read from or written to the store.</summary>
    internal virtual bool NeedsStore => true;

    /// <summary>True when what was written before it must be carried out before it is written.</summary>
    internal virtual bool MustComeFirst(Ledger ledger) => false;

    /// <summary>Inside the transaction: reads, decides, writes. Throws a <see cref="ProblemException"/> only before it changed anything.</summary>
    internal abstract void Write(Ledger ledger);

    /// <summary>After the commit: what others see.</summary>
    internal abstract void Apply(Ledger ledger);

    /// <summary>It did not happen.</summary>
    internal abstract void Fail(Exception error);

    /// <summary>For whoever runs the ledger, when it failed where it never should.</summary>
    public void Abandon(Exception error) => Fail(error);
}

/// <summary>A command with an answer.</summary>
public abstract class LedgerCommand<T> : LedgerCommand
{
    readonly TaskCompletionSource<T> done = new(TaskCreationOptions.RunContinuationsAsynchronously);

    /// <summary>The answer; set only once it is on disk.</summary>
    public Task<T> Task => done.Task;

    private protected T Answer { get; set; } = default!;

    internal sealed override void Apply(Ledger ledger)
    {
        Carry(ledger);
        done.TrySetResult(Answer);
    }

    private protected virtual void Carry(Ledger ledger) { }

    internal sealed override void Fail(Exception error) => done.TrySetException(error);
}
