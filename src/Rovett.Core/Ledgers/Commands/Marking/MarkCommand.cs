using Rovett.Core.Delivery;
using Rovett.Core.Marks;
using Rovett.Core.Nodes;
using Rovett.Core.Notifications;
using Rovett.Core.Store;
using Rovett.Core.Visibility;
using Rovett.Core.Wire;

namespace Rovett.Core.Ledgers.Commands.Marking;

/// <summary>Progress of marking in steps, which keeps other commands from waiting for all of it.</summary>
/// <param name="Through">By log: the ordinal up to which it is done.</param>
public sealed record MarkProgress(IReadOnlyDictionary<long, long> Through)
{
    /// <summary>Before the first step.</summary>
    public static MarkProgress Begin { get; } = new(new Dictionary<long, long>());
}

/// <summary>Marks notifications for one user; answered when on disk. With a limit it marks a part;
/// <see cref="Rest"/> is what is left.</summary>
/// <param name="space">The space's name.</param>
/// <param name="userId">The user's id.</param>
/// <param name="verb">What.</param>
/// <param name="selector">Which. What comes between two steps counts as if it had come before.</param>
/// <param name="device">On which device.</param>
/// <param name="origin">The session that asked, which is not told again.</param>
/// <param name="by">The credential of the request, which must still be valid; null: none is checked.</param>
/// <param name="most">The most runs that are marked.</param>
/// <param name="from">Progress of earlier steps.</param>
public sealed class MarkCommand(string space, string userId, MarkVerb verb, MarkSelector selector, string device, ISessionPort? origin,
    Identity? by = null, int most = int.MaxValue, MarkProgress? from = null) : LedgerCommand<TotalsBy>(space)
{
    readonly MarkProgress from = from ?? MarkProgress.Begin;

    /// <summary>What is left to mark; null: nothing.</summary>
    public MarkProgress? Rest { get; private set; }

    /// <summary>The range looked at in each log: (lo, hi]. For checkers.</summary>
    internal IReadOnlyList<(UserLog Log, long Lo, long Hi)> Parts { get; private set; } = [];

    // Only the last step is answered.
    internal override bool MaySyncLater => from.Through.Count > 0;

    internal override bool MustLast => Rest is null;

    internal override void Needs(AheadList ahead) => ahead.Add(userId);

    internal override void Execute(Ledger ledger)
    {
        var state = ledger.Space(Space);
        var user = Required(state);
        state.UserLogs.Ensure(user);
        long delta = 0;
        bool changed = false;
        Parts = Targets(ledger, state, user);
        foreach (var parts in Parts.GroupBy(t => t.Log))
        {
            var (byLog, any) = MarkOperation.Apply(ledger, state, user, parts.Key, [.. parts.Select(p => (p.Lo, p.Hi))], verb, device,
                ledger.Now);
            delta += byLog;
            changed |= any;
        }
        if (delta != 0) state.Port.Add(new NodeLine(user.Node, null, delta, null));
        if (changed) ledger.NextRev(user);
        Answer = Plans.CountBy(user);
        if (Rest is not null || verb is MarkVerb.Received or MarkVerb.Handled || user.Sessions.Count == 0) return;
        var message = Messages.Read(verb == MarkVerb.Read, selector.Ids, selector.UpTo?.Cursor, selector.Subject, selector.All,
            Answer.Totals);
        foreach (var place in user.Sessions)
        {
            if (place.Session != origin) ledger.Tell(place, message);
        }
    }

    UserState Required(SpaceState state)
    {
        try
        {
            return Users.Required(state, userId, by);
        }
        catch (ProblemException)
        {
            Stop(state);
            throw;
        }
    }

    /// <inheritdoc/>
    internal override void AfterFailure(Ledger ledger)
    {
        if (ledger.Known(Space) is { } state) Stop(state);
    }

    /// <summary>Earlier steps are on disk, and no later one will report them.</summary>
    void Stop(SpaceState state)
    {
        if (from.Through.Count == 0) return;
        foreach (var place in state.InMemory(userId)?.Sessions ?? []) state.Port.Add(new NodeTotalsMissed(place.Session));
    }

    /// <summary>The parts of the user's logs that are meant, as many as may be marked now: (lo, hi], within what the
    /// user may see.</summary>
    List<(UserLog Log, long Lo, long Hi)> Targets(Ledger ledger, SpaceState state, UserState user)
    {
        Rest = null;
        var targets = new List<(UserLog, long, long)>();
        if (selector.Ids is { } ids)
        {
            foreach (var id in ids)
            {
                if (Users.Place(ledger, state, user, id) is not var (log, ordinal, _)) throw UnknownId(id).ToException();
                targets.Add((log, ordinal - 1, ordinal));
            }
            return targets;
        }
        int left = most;
        var through = new Dictionary<long, long>(from.Through);
        foreach (var log in user.Logs!)
        {
            long after = Math.Max(log.Log.Trimmed, through.GetValueOrDefault(log.Log.Id)), end = log.Log.Head;
            if (selector.UpTo is { } upTo && upTo.Position.Value < log.Log.HeadPosition)
            {
                end = ledger.Store.OrdinalAt(log.Log.Id, upTo.Position.Value);
            }
            if (after >= end) continue;
            if (left == 0)
            {
                Rest = new MarkProgress(through);
                break;
            }
            long reached = selector.Subject is { } subject
                ? About(ledger, log, subject, after, end, ref left, targets)
                : Through(log, after, end, ref left, targets);
            through[log.Log.Id] = reached;
            if (reached < end) Rest = new MarkProgress(through);
        }
        return targets;
    }

    /// <summary>The ordinals of a log about a subject; adjacent ones form one part.</summary>
    static long About(Ledger ledger, UserLog log, string subject, long after, long end, ref int left, List<(UserLog, long, long)> targets)
    {
        var found = ledger.Store.OrdinalsAbout(log.Log.Id, NotificationTraits.HashOf(subject), after, end, left);
        bool isAll = found.Count < left;
        left -= found.Count;
        for (int i = 0; i < found.Count;)
        {
            long lo = found[i] - 1, hi = lo;
            while (i < found.Count && found[i] == hi + 1 && log.SegmentOf(found[i]) is not null) (hi, i) = (found[i], i + 1);
            if (hi > lo) targets.Add((log, lo, hi));
            else i++; // not the user's to see
        }
        return isAll ? end : found[^1];
    }

    /// <summary>The unmarked parts of a log, up to the limit of runs.</summary>
    long Through(UserLog log, long after, long end, ref int left, List<(UserLog, long, long)> targets)
    {
        foreach (var s in log.Segments)
        {
            long lo = Math.Max(s.Lo, after), hi = Math.Min(s.Hi, end);
            if (lo >= hi) continue;
            if (left == 0) return lo;
            long until = Bounded(log, lo, hi, ref left);
            targets.Add((log, lo, until));
            if (until < hi) return until;
        }
        return end;
    }

    long Bounded(UserLog log, long lo, long hi, ref int left)
    {
        if (most == int.MaxValue) return hi;
        int used = 0;
        OrdinalSet[] sets = verb switch
        {
            MarkVerb.Unread => [log.Read],
            MarkVerb.Read => [log.Read, log.Received],
            MarkVerb.Received => [log.Received],
            _ => [log.Received, log.Handled]
        };
        foreach (var set in sets)
        {
            int runs = 0;
            foreach (var run in log.Pieces(set, lo, hi, present: verb == MarkVerb.Unread))
            {
                used = Math.Max(used, ++runs);
                if (runs < left) continue;
                hi = run.To;
                break;
            }
        }
        left -= used;
        return hi;
    }

    /// <summary>The answer to an id that is not this user's: the same whether it exists or not.</summary>
    public static Problem UnknownId(NotificationId id) =>
        new(404, "unknown-notification", "No such notification", $"This user has no notification {id}.",
        "Use ids from the user's own notifications or inbox.");
}
