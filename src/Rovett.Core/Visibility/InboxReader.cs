using Rovett.Core.Marks;
using Rovett.Core.Notifications;
using Rovett.Core.Store;

namespace Rovett.Core.Visibility;

/// <summary>Reads inboxes under a plan: any number of threads.</summary>
public sealed class InboxReader(IHistoryStore history)
{
    /// <summary>One page of an inbox, newest first.</summary>
    /// <param name="plan">The user's read plan.</param>
    /// <param name="before">Only positions below this; long.MaxValue for the first page.</param>
    /// <param name="limit">The most to find.</param>
    /// <param name="state">Which.</param>
    public InboxPage Page(ReadPlan plan, long before, int limit, InboxState state) => history.Read(rows =>
    {
        var logs = new PriorityQueue<StoredLog.NewestFirst, long>();
        foreach (var log in StoredLog.Of(plan, rows))
        {
            var newest = log.Before(before, state);
            if (newest.Move()) logs.Enqueue(newest, -newest.Current.Position);
        }
        var found = new List<(StoredLog Log, long Position, string Address, long Ordinal)>(limit);
        while (found.Count < limit && logs.TryDequeue(out var newest, out _))
        {
            var (position, address, ordinal) = newest.Current;
            found.Add((newest.Log, position, address, ordinal));
            if (newest.Move()) logs.Enqueue(newest, -newest.Current.Position);
        }
        var entries = rows.Entries(plan.Space, [.. found.Select(f => f.Position)]);
        return new InboxPage([.. found.Select(f => Item(entries[f.Position], f.Log, f.Address, f.Ordinal))], logs.Count > 0);
    });

    /// <summary>One notification of a user by its id, or null when the user has none such: asked the same way whether it
    /// exists or not.</summary>
    public InboxItem? Item(ReadPlan plan, NotificationId id) =>
        history.Read(rows => Item(plan, rows, StoredLog.Of(plan, rows), id));

    /// <summary>Some of them, in the order asked; those that the user has not, or no more, are left out.</summary>
    public IReadOnlyList<InboxItem> Items(ReadPlan plan, IReadOnlyList<NotificationId> ids) => history.Read(rows =>
    {
        var logs = StoredLog.Of(plan, rows);
        return (IReadOnlyList<InboxItem>)[.. ids.Select(id => Item(plan, rows, logs, id)).OfType<InboxItem>()
            .Where(i => i.Taken || !logs.Find(l => l.Id == i.Log)!.Own.Log.Dead.Contains(i.Ordinal))];
    });

    static InboxItem? Item(ReadPlan plan, IHistoryRows rows, List<StoredLog> logs, NotificationId id)
    {
        var entry = rows.Notification(plan.Space, id);
        foreach (var place in entry?.Placements ?? [])
        {
            if (logs.Find(l => l.Id == place.Log) is { } log && log.Own.SegmentOf(place.Ordinal) is not null)
            {
                return Item(entry!, log, log.Own.AddressFor(place.Ordinal)!, place.Ordinal);
            }
        }
        return null;
    }

    /// <summary>How many unread notifications a user has of each type. Looks at each unread one.</summary>
    public IReadOnlyDictionary<string, long> UnreadByType(ReadPlan plan) => history.Read(rows =>
    {
        var names = new Dictionary<long, string>();
        var counts = new SortedDictionary<string, long>(StringComparer.Ordinal);
        foreach (var log in StoredLog.Of(plan, rows))
        {
            foreach (var (type, position, count) in log.UnreadTypes())
            {
                if (!names.TryGetValue(type, out var name)) names[type] = name = rows.Entry(plan.Space, position)!.Traits.Type;
                counts[name] = counts.GetValueOrDefault(name) + count;
            }
        }
        return (IReadOnlyDictionary<string, long>)counts;
    });

    /// <summary>How many unread notifications a user has about a subject.</summary>
    public long UnreadAbout(ReadPlan plan, string subject) =>
        history.Read(rows => StoredLog.Of(plan, rows).Sum(log => log.UnreadAbout(NotificationTraits.HashOf(subject))));

    static InboxItem Item(EntryRow entry, StoredLog log, string address, long ordinal) => new(entry, address, log.Id, ordinal)
    {
        Received = log.MarkedAt(MarkKind.Received, ordinal),
        Read = log.MarkedAt(MarkKind.Read, ordinal),
        Muted = log.Own.Muted.Contains(ordinal),
        Taken = log.Own.Mine?.Contains(ordinal) == true,
    };
}
