using System.Runtime.InteropServices;
using Rovett.Core.Store;
using Rovett.Core.Visibility;
using Rovett.Core.Wire;

namespace Rovett.Core.Delivery;

/// <summary>Reads pages of history for sessions that are behind. Thread-safe.</summary>
public sealed class HistoryReader(IHistoryStore history)
{
    /// <summary>The next entries of a user after a position, oldest first: notifications that are alive, and what became
    /// of any.</summary>
    /// <param name="plan">The user's read plan.</param>
    /// <param name="after">Positions up to here are left out.</param>
    /// <param name="limit">The most to find.</param>
    /// <param name="first">For a device that named no cursor; null: leave nothing out.</param>
    /// <param name="known">Finds an entry already in memory, so that its body need not be read.</param>
    public (List<FoundEntry> Items, bool More) After(ReadPlan plan, long after, int limit, FirstVisit? first,
        Func<long, OutgoingEntry?> known) =>
        history.Read(rows => Page(rows, StoredLog.Of(plan, rows), plan, after, limit, first, known));

    /// <summary>Where a device that named no cursor begins, and its first page, as <see cref="After"/> finds it: one
    /// reading of one moment.</summary>
    /// <param name="plan">The user's read plan.</param>
    /// <param name="limit">The most to find.</param>
    /// <param name="known">Finds an entry already in memory.</param>
    public FirstPage First(ReadPlan plan, int limit, Func<long, OutgoingEntry?> known) => history.Read(rows =>
    {
        var logs = StoredLog.Of(plan, rows);
        var start = Places(rows, logs, plan, 0, 1, new FirstVisit(long.MaxValue, plan.Head.Value)) is [var first, ..]
            ? new Position(first.Position - 1)
            : plan.Head;
        var (items, more) = Page(rows, logs, plan, start.Value, limit, new FirstVisit(start.Value, plan.Head.Value), known);
        return new FirstPage(start, items, more);
    });

    static (List<FoundEntry> Items, bool More) Page(IHistoryRows rows, List<StoredLog> logs, ReadPlan plan, long after, int limit,
        FirstVisit? first, Func<long, OutgoingEntry?> known)
    {
        var found = Places(rows, logs, plan, after, limit + 1, first);
        bool more = found.Count > limit;
        if (more) found.RemoveRange(limit, found.Count - limit);
        var items = CollectionsMarshal.AsSpan(found);
        foreach (ref var item in items) item.Known = known(item.Position);
        ReadTexts(rows, plan.Space, items);
        return (found, more);
    }

    static List<FoundEntry> Places(IHistoryRows rows, List<StoredLog> logs, ReadPlan plan, long after, int limit, FirstVisit? first)
    {
        var found = new List<FoundEntry>();
        foreach (var log in logs) CatchUp.Find(log, rows, after, limit, first, plan.Head.Value, found);
        if (!InOrder(found)) found.Sort(static (a, b) => a.Position.CompareTo(b.Position));
        return found;
    }

    /// <summary>Whether they are in order already, as the entries of a single log usually are.</summary>
    static bool InOrder(List<FoundEntry> found)
    {
        for (int i = 1; i < found.Count; i++)
        {
            if (found[i].Position < found[i - 1].Position) return false;
        }
        return true;
    }

    /// <summary>Reads what is not in memory.</summary>
    static void ReadTexts(IHistoryRows rows, int space, Span<FoundEntry> items)
    {
        var missing = new List<long>(items.Length);
        foreach (var item in items)
        {
            if (item.Known is null) missing.Add(item.Position);
        }
        int at = 0;
        foreach (var (position, text) in rows.Texts(space, missing))
        {
            while (at < items.Length && items[at].Position < position) at++;
            // One entry may have reached a user by several logs.
            for (; at < items.Length && items[at].Position == position; at++) items[at].Text = text;
        }
    }
}
