using Rovett.Core.AddressLogs;
using Rovett.Core.Delivery;
using Rovett.Core.Marks;

namespace Rovett.Core.Ledger;

/// <summary>What a user asks for with marks.</summary>
public enum MarkVerb
{
    /// <summary>The person saw them (which implies received).</summary>
    Read,
    /// <summary>They are to be new again.</summary>
    Unread,
    /// <summary>A device has them.</summary>
    Received,
}

/// <summary>The totals after a change, in all and by the address that reached the user.</summary>
public sealed record TotalsBy(Totals Totals, IReadOnlyList<KeyValuePair<string, long>> By);

/// <summary>Marks notifications for one user: an act of a person, answered when on disk.</summary>
/// <param name="space">The space's name.</param>
/// <param name="userId">Who.</param>
/// <param name="verb">What.</param>
/// <param name="selector">Which.</param>
/// <param name="device">On which device.</param>
/// <param name="origin">The session that asked, which is not told again.</param>
public sealed class MarkCommand(string space, string userId, MarkVerb verb, MarkSelector selector, string device, ISessionPort? origin) : LedgerCommand<TotalsBy>
{
    readonly List<(long Log, OrdinalRun Run, MarkKind Kind, int Sign)> changes = [];
    SpaceState state = null!;
    UserState user = null!;
    long delta;

    internal override void Write(Ledger ledger)
    {
        state = ledger.Space(space);
        user = state.Find(userId) ?? throw new Problem(404, "unknown-user", "Nothing is stored for this user", "The user has no inbox yet.", "Connect once, or send something to the user first.").Throw();
        state.EnsureLogs(user);
        var targets = Targets(ledger);
        var now = ledger.Now;
        foreach (var (log, lo, hi) in targets)
        {
            switch (verb)
            {
                case MarkVerb.Read:
                    delta -= OrdinalSet.CountInNone(lo, hi, log.Read, log.Log.Dead, log.Skips);
                    Set(ledger, log, log.Read, MarkKind.Read, lo, hi, now);
                    Set(ledger, log, log.Received, MarkKind.Received, lo, hi, now);
                    break;
                case MarkVerb.Received:
                    Set(ledger, log, log.Received, MarkKind.Received, lo, hi, now);
                    break;
                default:
                    long before = OrdinalSet.CountInNone(lo, hi, log.Read, log.Log.Dead, log.Skips);
                    Clear(ledger, log, lo, hi);
                    delta += OrdinalSet.CountInNone(lo, hi, log.Read, log.Log.Dead, log.Skips) - before;
                    break;
            }
        }
        if (changes.Exists(c => c.Kind == MarkKind.Read))
        {
            user.Rev++;
            ledger.Store.SavePerson(user.PersonId, user.Seen, user.Rev, user.RolesIssuedAt);
        }
        Answer = ledger.CountBy(user);
    }

    private protected override void Carry(Ledger ledger)
    {
        user.Unread += delta;
        foreach (var (log, run, kind, sign) in changes) ledger.Observer?.Marked(space, log, run, kind, sign);
        if (verb == MarkVerb.Received || user.Sessions.Count == 0) return;
        var message = Messages.Read(verb == MarkVerb.Read, selector.Ids, selector.UpTo?.Cursor, selector.Subject, selector.All, Answer.Totals);
        foreach (var session in user.Sessions)
        {
            if (session != origin) session.Tell(message);
        }
    }

    /// <summary>The parts of the user's logs that are meant: (lo, hi], within what the user may see.</summary>
    List<(UserLog Log, long Lo, long Hi)> Targets(Ledger ledger)
    {
        var targets = new List<(UserLog, long, long)>();
        if (selector.Ids is { } ids)
        {
            foreach (var id in ids)
            {
                var entry = ledger.Store.FindEntry(state.Id, id);
                var place = entry?.Placements.Select(p => (Log: user.Logs!.Find(l => l.Log.Id == p.Log), p.Ordinal)).FirstOrDefault(p => p.Log?.SegmentOf(p.Ordinal) is not null);
                if (place?.Log is not { } log) throw UnknownId(id).Throw();
                targets.Add((log, place.Value.Ordinal - 1, place.Value.Ordinal));
            }
            return targets;
        }
        foreach (var log in user.Logs!)
        {
            if (selector.Subject is { } subject)
            {
                foreach (long ordinal in ledger.Store.OrdinalsAbout(log.Log.Id, SendCommand.HashOf(subject)))
                {
                    if (log.SegmentOf(ordinal) is not null) targets.Add((log, ordinal - 1, ordinal));
                }
                continue;
            }
            long end = log.Log.Head;
            if (selector.UpTo is { } upTo && upTo.Position.Value < log.Log.HeadPosition) end = ledger.Store.OrdinalAt(log.Log.Id, upTo.Position.Value);
            foreach (var s in log.Segments)
            {
                if (Math.Min(s.Hi, end) > s.Lo) targets.Add((log, s.Lo, Math.Min(s.Hi, end)));
            }
        }
        return targets;
    }

    /// <summary>The answer to an id that is not this user's: the same whether it exists or not.</summary>
    public static Problem UnknownId(NotificationId id) =>
        new(404, "unknown-notification", "No such notification", $"This user has no notification {id}.", "Take ids from the user's own notifications or inbox.");

    void Set(Ledger ledger, UserLog log, OrdinalSet marks, MarkKind kind, long lo, long hi, StoredTime now)
    {
        var runs = new List<OrdinalRun>();
        marks.Runs(lo, hi, present: false, runs);
        if (runs.Count == 0) return;
        var seen = new List<OrdinalRun>();
        foreach (var run in runs)
        {
            marks.Add(run);
            // The set stays compact by covering what the user is left out of; receipts speak only of what was theirs.
            log.Skips.Runs(run.From - 1, run.To, present: false, seen);
        }
        foreach (var run in seen)
        {
            ledger.Store.AddRun(user.PersonId, log.Log.Id, kind, run, now, device);
            changes.Add((log.Log.Id, run, kind, 1));
        }
        ledger.Store.SaveMarks(user.PersonId, log.Log.Id, kind, marks);
    }

    void Clear(Ledger ledger, UserLog log, long lo, long hi)
    {
        var runs = new List<OrdinalRun>();
        log.Read.Runs(lo, hi, present: true, runs);
        if (runs.Count == 0) return;
        var seen = new List<OrdinalRun>();
        foreach (var run in runs)
        {
            log.Read.Remove(run);
            ledger.Store.ClearRun(user.PersonId, log.Log.Id, MarkKind.Read, run);
            log.Skips.Runs(run.From - 1, run.To, present: false, seen);
        }
        foreach (var run in seen) changes.Add((log.Log.Id, run, MarkKind.Read, -1));
        ledger.Store.SaveMarks(user.PersonId, log.Log.Id, MarkKind.Read, log.Read);
    }
}

/// <summary>Stores what one device of a user acknowledged. May be written behind: losing it costs a repeat.</summary>
public sealed class ReceivedCommand(string space, string userId, IReadOnlyList<AckedRun> acked, string device) : LedgerCommand<bool>
{
    readonly List<(long Log, OrdinalRun Run)> changes = [];

    internal override void Write(Ledger ledger)
    {
        var state = ledger.Space(space);
        if (state.Find(userId) is not { } user) return;
        state.EnsureLogs(user);
        var now = ledger.Now;
        var touched = new HashSet<UserLog>();
        var runs = new List<OrdinalRun>();
        foreach (var (logId, acknowledged) in acked)
        {
            if (user.Logs!.Find(l => l.Log.Id == logId) is not { } log) continue;
            runs.Clear();
            log.Received.Runs(acknowledged.From - 1, acknowledged.To, present: false, runs);
            foreach (var run in runs)
            {
                log.Received.Add(run);
                ledger.Store.AddRun(user.PersonId, logId, MarkKind.Received, run, now, device);
                changes.Add((logId, run));
                touched.Add(log);
            }
        }
        foreach (var log in touched) ledger.Store.SaveMarks(user.PersonId, log.Log.Id, MarkKind.Received, log.Received);
        Answer = changes.Count > 0;
    }

    private protected override void Carry(Ledger ledger)
    {
        foreach (var (log, run) in changes) ledger.Observer?.Marked(space, log, run, MarkKind.Received, 1);
    }
}
