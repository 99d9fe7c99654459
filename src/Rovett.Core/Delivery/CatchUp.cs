using Rovett.Core.Store;
using Rovett.Core.Visibility;

namespace Rovett.Core.Delivery;

/// <summary>What a device missed of one log after a position, out of memory or out of the store. Both ask the same
/// questions of <see cref="UserLog"/>: <see cref="UserLog.IsToldOf"/> and <see cref="UserLog.IsToldOfChange"/>.</summary>
static class CatchUp
{
    /// <summary>Whether the user is told of something that happened.</summary>
    /// <param name="own">The log as the user sees it.</param>
    /// <param name="happened">The entry.</param>
    /// <param name="firstVisit">The device named no cursor: what any device of the user acknowledged is left out.</param>
    public static bool Tells(UserLog own, LogEvent happened, bool firstVisit) => happened.Change
        ? own.IsToldOfChange(happened.Ordinal)
        : own.IsToldOf(happened.Ordinal) && !(firstVisit && own.Received.Contains(happened.Ordinal));

    /// <summary>Finds what is stored after a position: notifications that are alive, and what became of any.</summary>
    /// <param name="log">The log.</param>
    /// <param name="rows">The rows.</param>
    /// <param name="after">Positions up to here are left out.</param>
    /// <param name="limit">The most of each to find.</param>
    /// <param name="first">For a device that named no cursor; null: leave nothing out.</param>
    /// <param name="head">Changes after this position are left out.</param>
    /// <param name="into">Receives the results.</param>
    public static void Find(StoredLog log, IHistoryRows rows, long after, int limit, FirstVisit? first, long head, List<FoundEntry> into)
    {
        var own = log.Own;
        long start = log.OrdinalAt(after);
        int before = into.Count;
        // Anything since the session began is delivered, even if another device acknowledged it.
        long began = first is null ? start : Math.Max(start, log.OrdinalAt(first.UpTo));
        foreach (var (run, address) in own.Visible(start, began, own.Muted, own.Received)
            .Concat(own.Visible(began, long.MaxValue, own.Muted)))
        {
            int need = limit - (into.Count - before);
            if (need <= 0) break;
            foreach (var (ordinal, position) in rows.Items(log.Id, run, need, newestFirst: false))
            {
                into.Add(new FoundEntry(position, address, log.Id, ordinal));
            }
        }
        FindChanges(log, rows, Math.Max(after, first?.Since ?? 0), limit, head, into);
    }

    static void FindChanges(StoredLog log, IHistoryRows rows, long after, int limit, long head, List<FoundEntry> into)
    {
        int found = 0;
        for (long from = after; found < limit;)
        {
            var changes = rows.Changes(log.Id, from, head, limit);
            foreach (var (position, ordinal) in changes)
            {
                if (!log.Own.IsToldOfChange(ordinal)) continue;
                into.Add(new FoundEntry(position, log.Own.AddressFor(ordinal)!, log.Id, ordinal));
                if (++found == limit) return;
            }
            if (changes.Count < limit) return;
            from = changes[^1].Position;
        }
    }
}
