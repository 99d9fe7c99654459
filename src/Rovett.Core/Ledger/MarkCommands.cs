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
    /// <summary>A device's handler ran for them (which implies received).</summary>
    Handled,
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
/// <param name="by">The credential by which it is asked, which must hold still; null: nobody asks whose could end.</param>
public sealed class MarkCommand(string space, string userId, MarkVerb verb, MarkSelector selector, string device, ISessionPort? origin, Identity? by = null) : LedgerCommand<TotalsBy>
{
    internal override void Write(Ledger ledger)
    {
        var state = ledger.Space(space);
        var user = Users.Required(state, userId, by);
        state.EnsureLogs(user);
        long delta = 0;
        bool changed = false;
        foreach (var parts in Targets(ledger, state, user).GroupBy(t => t.Log))
        {
            var (byLog, any) = Marking.Apply(ledger, state, user, parts.Key, [.. parts.Select(p => (p.Lo, p.Hi))], verb, device, ledger.Now);
            delta += byLog;
            changed |= any;
        }
        user.Unread += delta;
        if (changed) ledger.NextRev(user);
        Answer = ledger.CountBy(user);
        if (verb is MarkVerb.Received or MarkVerb.Handled || user.Sessions.Count == 0) return;
        var message = Messages.Read(verb == MarkVerb.Read, selector.Ids, selector.UpTo?.Cursor, selector.Subject, selector.All, Answer.Totals);
        foreach (var place in user.Sessions)
        {
            if (place.Session != origin) ledger.Tell(place, message);
        }
    }

    /// <summary>The parts of the user's logs that are meant: (lo, hi], within what the user may see.</summary>
    List<(UserLog Log, long Lo, long Hi)> Targets(Ledger ledger, SpaceState state, UserState user)
    {
        var targets = new List<(UserLog, long, long)>();
        if (selector.Ids is { } ids)
        {
            foreach (var id in ids)
            {
                if (Users.Place(ledger, state, user, id) is not var (log, ordinal, _)) throw UnknownId(id).Throw();
                targets.Add((log, ordinal - 1, ordinal));
            }
            return targets;
        }
        foreach (var log in user.Logs!)
        {
            if (selector.Subject is { } subject)
            {
                foreach (long ordinal in ledger.Store.OrdinalsAbout(log.Log.Id, SendCommand.HashOf(subject), log.Log.Trimmed, log.Log.Head))
                {
                    if (log.SegmentOf(ordinal) is not null) targets.Add((log, ordinal - 1, ordinal));
                }
                continue;
            }
            long end = log.Log.Head;
            if (selector.UpTo is { } upTo && upTo.Position.Value < log.Log.HeadPosition) end = ledger.Store.OrdinalAt(log.Log.Id, upTo.Position.Value);
            foreach (var s in log.Segments)
            {
                long lo = Math.Max(s.Lo, log.Log.Trimmed);
                if (Math.Min(s.Hi, end) > lo) targets.Add((log, lo, Math.Min(s.Hi, end)));
            }
        }
        return targets;
    }

    /// <summary>The answer to an id that is not this user's: the same whether it exists or not.</summary>
    public static Problem UnknownId(NotificationId id) =>
        new(404, "unknown-notification", "No such notification", $"This user has no notification {id}.", "Take ids from the user's own notifications or inbox.");
}

/// <summary>Stores what one device of a user acknowledged. May be written behind: losing it costs a repeat.</summary>
public sealed class ReceivedCommand(string space, string userId, IReadOnlyList<AckedRun> acked, bool handled, string device) : LedgerCommand<bool>
{
    internal override void Write(Ledger ledger)
    {
        var state = ledger.Space(space);
        if (state.Find(userId) is not { } user) return;
        state.EnsureLogs(user);
        var parts = new List<(long, long)>();
        foreach (var log in user.Logs!)
        {
            parts.Clear();
            foreach (var ack in acked)
            {
                if (ack.Log == log.Log.Id) parts.AddRange(log.Within(ack.Run));
            }
            if (parts.Count > 0) Marking.Apply(ledger, state, user, log, parts, handled ? MarkVerb.Handled : MarkVerb.Received, device, ledger.Now, wereSent: true);
        }
        Answer = true;
    }
}

/// <summary>Finds users and what is theirs.</summary>
static class Users
{
    /// <summary>A user with an inbox, whose credential holds.</summary>
    /// <exception cref="ProblemException">404: there is none; 401 or 403: the credential does not hold any more.</exception>
    public static UserState Required(SpaceState state, string user, Identity? by)
    {
        var found = state.Find(user) ?? throw new Problem(404, "unknown-user", "Nothing is stored for this user", "The user has no inbox yet.", "Connect once, or send something to the user first.").Throw();
        if (by is not null) Standing.Require(found, by);
        return found;
    }

    /// <summary>Where a notification stands for a user, if the user may see it.</summary>
    public static (UserLog Log, long Ordinal, EntryRow Entry)? Place(Ledger ledger, SpaceState state, UserState user, NotificationId id)
    {
        if (ledger.Store.FindNotification(state.Id, id) is not { } entry) return null;
        foreach (var place in entry.Placements)
        {
            if (user.Logs!.Find(l => l.Log.Id == place.Log) is { } log && log.SegmentOf(place.Ordinal) is not null) return (log, place.Ordinal, entry);
        }
        return null;
    }
}
