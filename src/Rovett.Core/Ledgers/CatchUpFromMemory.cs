using Rovett.Core.Delivery;
using Rovett.Core.Visibility;

namespace Rovett.Core.Ledgers;

/// <summary>Catches sessions up from memory, without reading the store, where memory reaches back far enough.</summary>
static class CatchUpFromMemory
{
    /// <summary>Works out where a device starts and what it missed.</summary>
    /// <returns>Null when memory does not reach back far enough, or a gap must be reported first.</returns>
    public static (long From, List<(PageItem, long, long)> Missed)? Reach(SpaceState state, UserState user, SessionPlace place,
        DevicePoint at)
    {
        if (at.Foreign) return null;
        if (at.After == long.MaxValue) return (state.Head, []);
        if (at.After is { } after)
        {
            if (after > state.Head || user.Row.RolesChangedAt > after || user.Logs!.Exists(l => LostAfter(l, after))) return null;
            return Since(state, user, place, after) is { } missed ? (after, missed) : null;
        }
        return FirstMissing(user) is { } first
            && Since(state, user, place, Math.Min(first - 1, state.Head), firstVisit: true) is { } waiting
            ? (Math.Min(first - 1, state.Head), waiting)
            : null;
    }

    static bool LostAfter(UserLog log, long position) =>
        log.Log.Lost.Position > position && Array.Exists(log.Segments, s => log.Log.Lost.Ordinal > s.Lo);

    /// <summary>The position of the first notification that no device of the user acknowledged; long.MaxValue when
    /// there is none, null when memory can't say.</summary>
    static long? FirstMissing(UserState user)
    {
        long first = long.MaxValue;
        var happened = new List<(AddressLog Log, LogEvent Event)>();
        foreach (var own in user.Logs!)
        {
            long known = own.Log.RecentFrom;
            foreach (var s in own.Segments)
            {
                // What came before memory begins must be known to be acknowledged.
                if (Math.Min(s.Hi, known - 1) > Math.Max(Math.Max(s.Lo, own.Log.Trimmed), own.Received.Line)) return null;
            }
            happened.Clear();
            own.Log.Recent(happened);
            foreach (var (_, at) in happened)
            {
                if (at.Change || at.Position >= first || !CatchUp.Tells(own, at, firstVisit: true)) continue;
                first = at.Position;
            }
        }
        return first;
    }

    /// <summary>The entries since a position; null when memory does not reach back so far.</summary>
    /// <param name="state">The space.</param>
    /// <param name="user">The user.</param>
    /// <param name="place">The session.</param>
    /// <param name="position">Up to here it has everything.</param>
    /// <param name="firstVisit">The device named no cursor: what any device of the user acknowledged is left out.</param>
    public static List<(PageItem, long, long)>? Since(SpaceState state, UserState user, SessionPlace place, long position,
        bool firstVisit = false)
    {
        var happened = new List<(AddressLog Log, LogEvent Event)>();
        var seen = new List<(UserLog Own, SubscribedLog? Watch)>(user.Logs!.Count + place.SubscribedLogs.Count);
        foreach (var own in user.Logs) seen.Add((own, null));
        foreach (var watch in place.SubscribedLogs) seen.Add((watch.Seen, watch));
        foreach (var (own, _) in seen)
        {
            if (!own.Log.TryRecent(position, happened)) return null;
        }
        if (happened.Count == 0) return [];
        happened.Sort(static (a, b) => (a.Event.Position, a.Log.Id).CompareTo((b.Event.Position, b.Log.Id)));
        var missed = new List<(PageItem, long, long)>(happened.Count);
        long unread = user.CountUnread();
        foreach (var (log, at) in happened)
        {
            var (own, watch) = seen.Find(s => s.Own.Log == log);
            if (!CatchUp.Tells(own, at, firstVisit)) continue;
            if (state.Recent.Find(at.Position) is not { } entry) return null;
            missed.Add((new PageItem(entry, watch?.Address ?? own.AddressFor(at.Ordinal)!, log.Id, at.Ordinal)
            { OnlySubscribed = watch is not null }, user.Rev, unread));
        }
        return missed;
    }
}
