using Rovett.Core.Visibility;
using Rovett.Core.Wire;

namespace Rovett.Core.Delivery;

/// <summary>Catches one session up with the present, page by page, from where its device is.</summary>
public sealed class SessionFeeder(HistoryReader history, RecentEntries recent, CursorSeal cursors)
{
    FirstVisit? firstVisit;
    (ReadPlan Plan, FirstPage Page)? ready; // read when it began, and not fed yet
    int asOf; // how often everything was dropped from memory before the page was read
    bool isShared; // other sessions are behind at the same time
    long lossKnown; // up to this position it was said that something is missing, or it does not matter

    /// <summary>Works out where a session starts.</summary>
    /// <param name="plan">The user's read plan.</param>
    /// <param name="after">What the device has: a position; null when it named none; long.MaxValue for "now".</param>
    /// <param name="foreignCursor">The cursor it named is not of this store's present life.</param>
    /// <param name="pageSize">The most that its first page may hold.</param>
    /// <param name="words">Messages to send first: gaps, and channels that changed since.</param>
    /// <returns>The position after which to read.</returns>
    public Position Begin(ReadPlan plan, long? after, bool foreignCursor, int pageSize, out IReadOnlyList<ControlMessage> words)
    {
        var say = new List<ControlMessage>();
        words = say;
        // The cursor is ahead of this store, which must have been restored.
        if (after is > 0 and < long.MaxValue && after > plan.Head.Value) (after, foreignCursor) = (null, true);
        if (foreignCursor) say.Add(Messages.Gap("new-life", null));
        if (after == long.MaxValue) return plan.Head;
        if (after is { } position)
        {
            if (Lost(plan, position) is { } gap) say.Add(gap);
            // Entries that an address gained or lost are not in the logs after the cursor; the client reads its inbox.
            if (plan.RolesChangedAt > position) say.Add(Messages.Channels(plan.Channels, plan.Totals.Totals));
            return new Position(position);
        }
        // A device without notifications has missed none.
        foreach (var log in plan.Logs) lossKnown = Math.Max(lossKnown, log.Lost.Position);
        // Without a cursor: start just before the first notification that no device of this user has.
        Reading();
        var page = plan.Logs.Count > 0 ? history.First(plan, pageSize, recent.FindForPage) : new FirstPage(plan.Head, [], false);
        firstVisit = new FirstVisit(page.Start.Value, plan.Head.Value);
        ready = (plan, page);
        return page.Start;
    }

    /// <summary>Reads the next page for a session and feeds it.</summary>
    public void Page(Session session, ReadPlan plan)
    {
        if (Lost(plan, session.Through) is { } gap) session.SayGap(gap); // taken while the session was on its way
        var (found, more) = Read(session, plan);
        var sealedOnes = cursors.Seal([.. found.Where(f => f.Known is null).Select(f => f.Position)]);
        var items = new List<PageItem>(found.Count);
        var onlySubscribed = plan.Logs.Where(l => l.SubscribedMuted is not null).Select(l => l.Log).ToHashSet();
        int read = 0;
        foreach (var f in found)
        {
            if ((f.Known ?? Made(f, sealedOnes, ref read)) is not { } entry) return; // retention took it meanwhile: the page is read again
            items.Add(new PageItem(entry, f.Address, f.Log, f.Ordinal) { OnlySubscribed = onlySubscribed.Contains(f.Log) });
        }
        session.Feed(items, more ? items[^1].Entry.Position.Value : plan.Head.Value, !more, plan.Version, plan.Totals.Totals);
    }

    (List<FoundEntry> Found, bool More) Read(Session session, ReadPlan plan)
    {
        int most = session.PageSize;
        var (mine, page) = ready.GetValueOrDefault();
        ready = null;
        if (page is not null && mine == plan && page.Start.Value == session.Through && page.Items.Count <= most)
        {
            return (page.Items, page.More);
        }
        Reading();
        return plan.Logs.Count > 0 ? history.After(plan, session.Through, most, firstVisit, recent.FindForPage) : ([], false);
    }

    void Reading() => (asOf, isShared) = (recent.Cleared, recent.OthersReadToo(this));

    OutgoingEntry? Made(FoundEntry found, string[] cursors, ref int next)
    {
        if (found.Text is not { } text) return null;
        var made = new OutgoingEntry(text.Kind, new Position(found.Position), text.Time, text.Id, cursors[next++], text.Body)
        { IsKept = false };
        if (isShared) recent.Share(made, asOf);
        return made;
    }

    /// <summary>A gap message when retention deleted something after a position that the session has not reported yet; sent once.</summary>
    ControlMessage? Lost(ReadPlan plan, long after)
    {
        StoredTime? time = null;
        long known = lossKnown;
        foreach (var log in plan.Logs)
        {
            if (log.Lost.Position <= known || !log.LostAfter(after)) continue;
            if (time is null || log.Lost.Time > time) time = log.Lost.Time;
            lossKnown = Math.Max(lossKnown, log.Lost.Position);
        }
        return time is { } newest ? Messages.Gap("retention", newest) : null;
    }
}
