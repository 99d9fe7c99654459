using Rovett.Core.AddressLogs;
using Rovett.Core.Ledger;

namespace Rovett.Core.Delivery;

/// <summary>An entry found for a session that is behind. <see cref="Entry"/> is null when it is already in memory.</summary>
public sealed record FoundEntry(long Position, string Address, long Log, long Ordinal, EntryRow? Entry);

/// <summary>How a device is caught up that named no cursor: of what was stored up to <paramref name="UpTo"/>, when its session
/// began, what any device of the user acknowledged is left out, and changes before <paramref name="Since"/>.</summary>
public sealed record FirstVisit(long Since, long UpTo);

/// <summary>Reads what a session that is behind must be given; any number of threads.</summary>
public interface IHistoryReader
{
    /// <summary>The next entries of a user after a position, oldest first: notifications that are alive, and what became
    /// of any.</summary>
    /// <param name="plan">What the user may see.</param>
    /// <param name="space">The space's number.</param>
    /// <param name="after">Positions up to here are left out.</param>
    /// <param name="limit">The most to find.</param>
    /// <param name="first">For a device that named no cursor; null: leave nothing out.</param>
    /// <param name="known">Finds an entry already in memory, so that its body need not be read.</param>
    (List<FoundEntry> Items, bool More) After(ReadPlan plan, int space, long after, int limit, FirstVisit? first, Func<long, bool> known);
}

/// <summary>Brings one session from where its device is to the present: where to begin, and page after page.</summary>
public sealed class SessionFeeder(IHistoryReader history, RecentEntries recent, CursorSeal cursors, int space)
{
    FirstVisit? firstVisit;

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
        var (items, _) = history.After(plan, space, 0, 1, new FirstVisit(long.MaxValue, plan.Head.Value), static _ => true);
        var start = items.Count > 0 ? new Position(items[0].Position - 1) : plan.Head;
        firstVisit = new FirstVisit(start.Value, plan.Head.Value);
        return start;
    }

    /// <summary>Reads the next page for a session and feeds it.</summary>
    public void Page(Session session, ReadPlan plan)
    {
        var (found, more) = history.After(plan, space, session.Through, session.PageSize, firstVisit, p => recent.Find(p) is not null);
        var items = new List<PageItem>(found.Count);
        foreach (var f in found)
        {
            var entry = recent.Find(f.Position) ?? (f.Entry is { } row ? new OutgoingEntry(row.Kind, row.Position, row.Time, row.Id, cursors.Seal(row.Position), row.Body) : null);
            if (entry is null) return; // fell out of memory between the two looks: the page is read again
            items.Add(new PageItem(entry, f.Address, f.Log, f.Ordinal));
        }
        session.Feed(items, more ? items[^1].Entry.Position.Value : plan.Head.Value, !more, plan.Version, plan.Totals.Totals);
    }
}
