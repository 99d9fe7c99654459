using Rovett.Core.AddressLogs;
using Rovett.Core.Ledger;

namespace Rovett.Core.Delivery;

/// <summary>An entry found for a session that is behind. <see cref="Entry"/> is null when it is already in memory.</summary>
public sealed record FoundEntry(long Position, string Address, long Log, long Ordinal, EntryRow? Entry);

/// <summary>Reads what a session that is behind must be given; any number of threads.</summary>
public interface IHistoryReader
{
    /// <summary>The next entries of a user after a position, oldest first: notifications that are alive, and what became
    /// of any.</summary>
    /// <param name="plan">What the user may see.</param>
    /// <param name="space">The space's number.</param>
    /// <param name="after">Positions up to here are left out.</param>
    /// <param name="limit">The most to find.</param>
    /// <param name="unreceivedSince">Leave out what any device of the user acknowledged: the device named no cursor, and of changes what came before this position. Null: leave nothing out.</param>
    /// <param name="known">Finds an entry already in memory, so that its body need not be read.</param>
    (List<FoundEntry> Items, bool More) After(ReadPlan plan, int space, long after, int limit, long? unreceivedSince, Func<long, bool> known);
}

/// <summary>Brings one session from where its device is to the present: where to begin, and page after page.</summary>
public sealed class SessionFeeder(IHistoryReader history, RecentEntries recent, CursorSeal cursors, int space)
{
    /// <summary>The device named no cursor: it gets what no device of the user has, from this position on.</summary>
    long? unreceivedSince;

    /// <summary>Where a session begins.</summary>
    /// <param name="plan">What its user may see.</param>
    /// <param name="after">What the device has: a position; null when it named none; long.MaxValue for "now".</param>
    /// <param name="foreignCursor">The cursor it named is not of this store's present life.</param>
    /// <param name="words">What the device must hear first: what is missing, that its channels changed since.</param>
    /// <returns>The position up to which the device has, or needs, nothing.</returns>
    public Position Begin(ReadPlan plan, long? after, bool foreignCursor, out IReadOnlyList<ControlMessage> words)
    {
        var say = new List<ControlMessage>();
        words = say;
        if (after is > 0 and < long.MaxValue && after > plan.Head.Value) (after, foreignCursor) = (null, true); // of a store that was further on: another life
        if (foreignCursor) say.Add(Messages.Gap("new-epoch", null));
        if (after == long.MaxValue) return plan.Head;
        if (after is { } position)
        {
            StoredTime? lost = null;
            foreach (var log in plan.Logs)
            {
                if (log.LostAfter(position) && (lost is null || log.Lost.Time > lost)) lost = log.Lost.Time;
            }
            if (lost is { } time) say.Add(Messages.Gap("retention", time));
            // What an address brought or took is not in the logs after the cursor: it is read from the inbox.
            if (plan.RolesChangedAt > position) say.Add(Messages.Channels(plan.Channels, plan.Totals.Totals));
            return new Position(position);
        }
        // No cursor: from just before the first notification that no device of this user has.
        var (items, _) = history.After(plan, space, 0, 1, long.MaxValue, static _ => true);
        var start = items.Count > 0 ? new Position(items[0].Position - 1) : plan.Head;
        unreceivedSince = start.Value;
        return start;
    }

    /// <summary>Reads the next page for a session and feeds it.</summary>
    public void Page(Session session, ReadPlan plan)
    {
        var (found, more) = history.After(plan, space, session.Through, session.PageSize, unreceivedSince, p => recent.Find(p) is not null);
        var items = new List<PageItem>(found.Count);
        foreach (var f in found)
        {
            var entry = recent.Find(f.Position) ?? (f.Entry is { } row ? new OutgoingEntry(row.Kind, row.Position, row.Time, row.Id, cursors.Seal(row.Position), row.Body) : null);
            if (entry is null) return; // fell out of memory between the two looks: the page is read again
            items.Add(new PageItem(entry, f.Address, f.Log, f.Ordinal));
        }
        session.Feed(items, more ? items[^1].Entry.Position.Value : plan.Head.Value, !more, plan.Version, plan.Totals.Totals);
    }

    /// <summary>The session went live: from now on it gets everything.</summary>
    public void Live() => unreceivedSince = null;
}
