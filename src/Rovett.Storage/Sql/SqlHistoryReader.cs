using System.Collections.Concurrent;
using System.Data.Common;
using System.Runtime.InteropServices;
using Rovett.Core.Delivery;
using Rovett.Core.Marks;
using Rovett.Core.Notifications;
using Rovett.Core.Store;
using Rovett.Core.Visibility;
using Rovett.Core.Wire;

namespace Rovett.Storage.Sql;

/// <summary>Which notifications of an inbox.</summary>
public enum InboxState
{
    /// <summary>Every one.</summary>
    All,
    /// <summary>Not marked read, and not muted.</summary>
    Unread,
    /// <summary>Marked read.</summary>
    Read,
}

/// <summary>A notification found for a user: where it stands, by which address it reached, and its entry.</summary>
public sealed record FoundItem(EntryRow Entry, string Address, long Log, long Ordinal)
{
    /// <summary>When a device of the user acknowledged it.</summary>
    public StoredTime? Received { get; init; }
    /// <summary>When the user saw it.</summary>
    public StoredTime? Read { get; init; }
    /// <summary>It came while the user had its type or subject muted.</summary>
    public bool Muted { get; init; }
    /// <summary>The user has taken it.</summary>
    public bool Taken { get; init; }
}

/// <summary>A page and whether there is more beyond it.</summary>
public sealed record FoundPage(IReadOnlyList<FoundItem> Items, bool More);

/// <summary>How many people have a notification in each state.</summary>
public sealed record PeopleCounts(long Received, long Handled, long Read);

/// <summary>One person's receipt of a notification.</summary>
public sealed record PersonReceipt(string User, StoredTime? Received, StoredTime? Handled, StoredTime? Read, string Device);

/// <summary>A notification as backends and operators see it.</summary>
public sealed record OperatorItem(EntryRow Entry, PeopleCounts People)
{
    /// <summary>What became of it, oldest first.</summary>
    public IReadOnlyList<EntryRow> Timeline { get; init; } = [];
    /// <summary>The first time it reached each state, for anybody.</summary>
    public PersonReceipt? First { get; init; }
    /// <summary>Who has taken it, and until when.</summary>
    public (string User, StoredTime? Until)? Taken { get; init; }
    /// <summary>Its deadlines.</summary>
    public IReadOnlyList<DeadlineRow> Deadlines { get; init; } = [];
    /// <summary>Each person's receipt, when they are kept.</summary>
    public IReadOnlyList<PersonReceipt> Receipts { get; init; } = [];
}

/// <summary>Reads the history for sessions that are behind, inboxes and operators: any number of threads, each on a
/// connection of its own; never waits for the writer, and never makes it wait.</summary>
public sealed class SqlHistoryReader(Func<ISql> open) : IHistoryReader, IDisposable
{
    /// <summary>The most single receipts that are listed of a notification.</summary>
    public const int MaxReceipts = 1000;

    const int KeysAtOnce = 32, MostKept = 16;
    static readonly string AtAnyKey =
        $" WHERE key IN ({string.Join(',', Enumerable.Range(1, KeysAtOnce).Select(i => $"?{i}"))}) ORDER BY key";
    static readonly string SelectTexts = Rows.SelectText + AtAnyKey, SelectEntries = Rows.SelectEntry + AtAnyKey;

    readonly ConcurrentStack<ISql> idle = [];
    int kept; // how many are idle; counting the stack would walk it
    volatile bool disposed;

    /// <inheritdoc/>
    public (List<FoundEntry> Items, bool More) After(ReadPlan plan, int space, long after, int limit, FirstVisit? first,
        Func<long, OutgoingEntry?> known) =>
        Use(sql => Page(sql, Views(sql, plan), plan, space, after, limit, first, known));

    /// <inheritdoc/>
    public FirstPage First(ReadPlan plan, int space, int limit, Func<long, OutgoingEntry?> known) => Use(sql =>
    {
        var views = Views(sql, plan);
        var start = Places(views, plan, 0, 1, new FirstVisit(long.MaxValue, plan.Head.Value)) is [var first, ..]
            ? new Position(first.Position - 1)
            : plan.Head;
        var (items, more) = Page(sql, views, plan, space, start.Value, limit, new FirstVisit(start.Value, plan.Head.Value), known);
        return new FirstPage(start, items, more);
    });

    static (List<FoundEntry> Items, bool More) Page(ISql sql, List<LogView> views, ReadPlan plan, int space, long after, int limit,
        FirstVisit? first, Func<long, OutgoingEntry?> known)
    {
        var found = Places(views, plan, after, limit + 1, first);
        bool more = found.Count > limit;
        if (more) found.RemoveRange(limit, found.Count - limit);
        var items = CollectionsMarshal.AsSpan(found);
        foreach (ref var item in items) item.Known = known(item.Position);
        ReadTexts(sql, space, items);
        return (found, more);
    }

    static List<FoundEntry> Places(List<LogView> views, ReadPlan plan, long after, int limit, FirstVisit? first)
    {
        var found = new List<FoundEntry>();
        foreach (var view in views) view.After(after, limit, first, plan.Head.Value, found);
        found.Sort(static (a, b) => a.Position.CompareTo(b.Position));
        return found;
    }

    /// <summary>Reads what is not in memory.</summary>
    static void ReadTexts(ISql sql, int space, Span<FoundEntry> items)
    {
        var missing = new List<long>(items.Length);
        foreach (var item in items)
        {
            if (item.Known is null) missing.Add(item.Position);
        }
        int at = 0;
        foreach (var (position, text) in AtKeys(sql, space, missing, SelectTexts, Rows.Text))
        {
            while (at < items.Length && items[at].Position < position) at++;
            // One entry may have reached a user by several logs.
            for (; at < items.Length && items[at].Position == position; at++) items[at].Text = text;
        }
    }

    static Dictionary<long, EntryRow> EntriesAt(ISql sql, int space, IReadOnlyList<long> positions)
    {
        var entries = new Dictionary<long, EntryRow>(positions.Count);
        foreach (var entry in AtKeys(sql, space, positions, SelectEntries, Rows.Entry)) entries[entry.Position.Value] = entry;
        return entries;
    }

    /// <summary>The rows at positions, many with one statement; in the order of positions among those of one statement.</summary>
    static IEnumerable<T> AtKeys<T>(ISql sql, int space, IReadOnlyList<long> positions, string select, Func<DbDataReader, T> read)
    {
        var keys = new object?[KeysAtOnce];
        for (int from = 0; from < positions.Count; from += KeysAtOnce)
        {
            // The last ones are asked for with the last key repeated.
            for (int i = 0; i < KeysAtOnce; i++) keys[i] = Rows.Key(space, positions[Math.Min(from + i, positions.Count - 1)]);
            foreach (var row in sql.All(select, read, keys)) yield return row;
        }
    }

    /// <summary>One page of an inbox, newest first.</summary>
    /// <param name="plan">What the user may see.</param>
    /// <param name="space">The space's number.</param>
    /// <param name="before">Only positions below this; long.MaxValue for the first page.</param>
    /// <param name="limit">The most to find.</param>
    /// <param name="state">Which.</param>
    public FoundPage Inbox(ReadPlan plan, int space, long before, int limit, InboxState state) => Use(sql =>
    {
        var logs = new PriorityQueue<LogView.NewestFirst, long>();
        foreach (var view in Views(sql, plan))
        {
            var newest = view.Before(before, state);
            if (newest.Move()) logs.Enqueue(newest, -newest.Current.Position);
        }
        var (places, views) = (new List<FoundEntry>(limit), new List<LogView>(limit));
        while (places.Count < limit && logs.TryDequeue(out var newest, out _))
        {
            places.Add(newest.Current);
            views.Add(newest.View);
            if (newest.Move()) logs.Enqueue(newest, -newest.Current.Position);
        }
        var entries = EntriesAt(sql, space, [.. places.Select(p => p.Position)]);
        return new FoundPage([.. places.Zip(views, (place, view) => Item(entries[place.Position], view, place))], logs.Count > 0);
    });

    /// <summary>One notification of a user by its id, or null when the user has none such: asked the same way whether
    /// it exists or not.</summary>
    public FoundItem? InboxItem(ReadPlan plan, int space, NotificationId id) => Use(sql =>
    {
        var entry = NotificationById(sql, space, id);
        var views = Views(sql, plan);
        foreach (var place in entry?.Placements ?? [])
        {
            if (views.Find(v => v.Log.Log == place.Log) is { } view && view.AddressFor(place.Ordinal) is { } address)
                return Item(entry!, view, new FoundEntry(entry!.Position.Value, address, place.Log, place.Ordinal));
        }
        return null;
    });

    /// <summary>How many unread notifications a user has of each type, or about one subject. Looks at each unread one.</summary>
    public IReadOnlyDictionary<string, long> UnreadByType(ReadPlan plan, int space) => Use(sql =>
    {
        var names = new Dictionary<long, string>();
        var counts = new SortedDictionary<string, long>(StringComparer.Ordinal);
        foreach (var view in Views(sql, plan))
        {
            foreach (var (type, position, count) in view.UnreadTypes())
            {
                if (!names.TryGetValue(type, out var name)) names[type] = name = EntryAt(sql, space, position)!.Traits.Type;
                counts[name] = counts.GetValueOrDefault(name) + count;
            }
        }
        return (IReadOnlyDictionary<string, long>)counts;
    });

    /// <summary>How many unread notifications a user has about a subject.</summary>
    public long UnreadAbout(ReadPlan plan, string subject) =>
        Use(sql => Views(sql, plan).Sum(v => v.UnreadAbout(NotificationTraits.HashOf(subject))));

    static FoundItem Item(EntryRow entry, LogView view, FoundEntry f) => new(entry, f.Address, f.Log, f.Ordinal)
    {
        Received = view.MarkedAt(MarkKind.Received, f.Ordinal),
        Read = view.MarkedAt(MarkKind.Read, f.Ordinal),
        Muted = view.Muted.Contains(f.Ordinal),
        Taken = view.Mine.Contains(f.Ordinal),
    };

    static List<LogView> Views(ISql sql, ReadPlan plan)
    {
        var rows = sql.All(Rows.SelectUserLogs, Rows.UserLog, plan.Person).ToDictionary(r => r.Log);
        // Retention may have gone on since the plan was made; what it took is not to be looked for.
        bool trimmed = sql.Number("SELECT floor FROM space WHERE id=?1", (long)plan.Space) > 0;
        var mine = sql.All("SELECT log, ordinal FROM take WHERE person=?1", r => (Log: r.GetInt64(0), Ordinal: r.GetInt64(1)), plan.Person);
        return [.. plan.Logs.Select(
            log => new LogView(sql, plan.Person, [.. mine.Where(m => m.Log == log.Log).Select(m => m.Ordinal)],
            trimmed ? log with { Trimmed = sql.Number("SELECT trimmed FROM log WHERE id=?1", log.Log) ?? 0 } : log,
            rows.GetValueOrDefault(log.Log)))];
    }

    static EntryRow? EntryAt(ISql sql, int space, long position) =>
        sql.One(Rows.SelectEntry + " WHERE key=?1", Rows.Entry, Rows.Key(space, position));

    static EntryRow? NotificationById(ISql sql, int space, NotificationId id) =>
        sql.One(Rows.SelectEntry + " WHERE kind=1 AND id=?1 AND key>=?2 AND key<=?3", Rows.Entry, Rows.IdBytes(id), Rows.First(space),
        Rows.Last(space));

    /// <summary>The newest notifications of a space, newest first.</summary>
    public IReadOnlyList<EntryRow> Newest(int space, int limit) => Use(sql =>
        sql.All(Rows.SelectEntry + " WHERE key>=?1 AND key<=?2 AND kind=1 ORDER BY key DESC LIMIT ?3", Rows.Entry, Rows.First(space),
        Rows.Last(space), (long)limit));

    /// <summary>How many erasures are under way in a space.</summary>
    public long Erasures(int space) =>
        (Use(sql => Tuple.Create(sql.Number("SELECT count(*) FROM erasure WHERE space=?1", (long)space) ?? 0)) ?? Tuple.Create(0L)).Item1;

    /// <summary>What was set aside in a space, newest first.</summary>
    public IReadOnlyList<SetAsideRow> SetAside(int space, int limit) => Use(sql =>
        sql.All("SELECT time, kind, position, why, detail FROM set_aside WHERE space=?1 ORDER BY number DESC LIMIT ?2",
        r => new SetAsideRow(new StoredTime(r.GetInt64(0)), (AsideKind)r.GetInt64(1), r.GetInt64(2), r.GetString(3), r.GetString(4)),
        (long)space, (long)limit));

    /// <summary>How many people have a notification in each state.</summary>
    public PeopleCounts People(IReadOnlyList<Placement> placements) => Use(sql => People(sql, placements));

    static PeopleCounts People(ISql sql, IReadOnlyList<Placement> placements)
    {
        long Of(MarkKind kind) => placements.Sum(p => SqlLedgerStore.TallyOf(sql, p.Log, kind, p.Ordinal));
        return new PeopleCounts(Of(MarkKind.Received), Of(MarkKind.Handled), Of(MarkKind.Read));
    }

    /// <summary>A notification by its id for operators and backends, or null.</summary>
    public OperatorItem? ById(int space, NotificationId id) => Use(sql =>
    {
        if (NotificationById(sql, space, id) is not { } entry) return null;
        bool full = entry.Traits.Receipts == ReceiptLevel.Full;
        var item = new OperatorItem(entry, entry.Traits.Receipts == ReceiptLevel.None
            ? new PeopleCounts(0, 0, 0)
            : People(sql, entry.Placements))
        {
            Timeline = Timeline(sql, space, entry),
            Deadlines = SqlLedgerStore.DeadlinesOf(sql, space, entry.Position.Value),
            Taken = sql.One("SELECT p.name, t.until FROM take t JOIN person p ON p.id=t.person WHERE t.space=?1 AND t.position=?2",
                r => Tuple.Create(r.GetString(0), Rows.Number(r, 1)), (long)space, entry.Position.Value) is var (user, until)
                ? (user, until is { } end ? new StoredTime(end) : null) : null,
        };
        return full ? item with { Receipts = Receipts(sql, entry) } : item;
    });

    /// <summary>What became of a notification last, or null when nothing did.</summary>
    public EntryKind? LastChange(EntryRow entry) => entry.Placements.Length == 0 ? null : Use(sql =>
        sql.Number("SELECT kind FROM change WHERE log=?1 AND position>?2 AND ordinal=?3 AND kind<>6 ORDER BY position DESC LIMIT 1",
        entry.Placements[0].Log, entry.Position.Value,
        entry.Placements[0].Ordinal) is { } kind ? Tuple.Create((EntryKind)kind) : null)?.Item1;

    static List<EntryRow> Timeline(ISql sql, int space, EntryRow entry)
    {
        if (entry.Placements.Length == 0) return [];
        var place = entry.Placements[0];
        return [.. sql.All("SELECT position FROM change WHERE log=?1 AND position>?2 AND ordinal=?3 AND kind<>6 ORDER BY position",
            r => r.GetInt64(0), place.Log, entry.Position.Value, place.Ordinal)
            .Select(position => EntryAt(sql, space, position)!)];
    }

    static List<PersonReceipt> Receipts(ISql sql, EntryRow entry)
    {
        var people = new Dictionary<long, PersonReceipt>();
        foreach (var place in entry.Placements)
        {
            foreach (var kind in new[] { MarkKind.Received, MarkKind.Handled, MarkKind.Read })
            {
                foreach (var (person, name, time, device) in Having(sql, place, kind))
                {
                    var known = people.GetValueOrDefault(person) ?? new PersonReceipt(name, null, null, null, device);
                    people[person] = kind switch
                    {
                        MarkKind.Received => known with { Received = time, Device = device },
                        MarkKind.Handled => known with { Handled = time },
                        _ => known with { Read = time },
                    };
                }
            }
        }
        return [.. people.Values.OrderBy(p => p.User, StringComparer.Ordinal)];
    }

    /// <summary>Who has marked an ordinal: among the short runs those that begin near it, and all long ones before it.</summary>
    static IEnumerable<(long Person, string Name, StoredTime Time, string Device)> Having(ISql sql, Placement place, MarkKind kind)
    {
        const string select =
            "SELECT m.person, p.name, m.time, m.device FROM mark_run m JOIN person p ON p.id=m.person WHERE m.log=?1 AND m.kind=?2 AND ";
        var near = sql.All(select + "m.is_long=0 AND m.from_ord>?4 AND m.from_ord<=?3 AND m.to_ord>=?3 LIMIT ?5", Read, place.Log,
            (long)kind, place.Ordinal, place.Ordinal - SqlLedgerStore.LongRun, (long)MaxReceipts);
        return near.Concat(
            sql.All(select + "m.is_long=1 AND m.from_ord<=?3 AND m.to_ord>=?3 LIMIT ?4", Read, place.Log, (long)kind, place.Ordinal,
            (long)MaxReceipts));

        static (long, string, StoredTime, string) Read(DbDataReader r) =>
            (r.GetInt64(0), r.GetString(1), new StoredTime(r.GetInt64(2)), r.GetString(3));
    }

    /// <summary>The receipts after a number, oldest first.</summary>
    public IReadOnlyList<ReceiptRow> ReceiptsAfter(int space, long number, int limit) => Use(sql =>
        sql.All(Rows.SelectReceipt + " WHERE key>?1 AND key<=?2 ORDER BY key LIMIT ?3", Rows.Receipt, Rows.Key(space, number),
        Rows.Last(space), (long)limit));

    /// <summary>The numbers of the oldest and the newest receipt kept; 0 when there are none.</summary>
    public (long Oldest, long Newest) ReceiptBounds(int space) => Use(sql =>
    {
        long Edge(string order) =>
            Rows.PositionOf(
            sql.Number($"SELECT key FROM receipt WHERE key>=?1 AND key<=?2 ORDER BY key {order} LIMIT 1", Rows.First(space),
            Rows.Last(space)) ?? 0);
        return (Edge("ASC"), Edge("DESC"));
    });

    /// <summary>The notifications of a run of a log, and an entry at a position when it is one.</summary>
    public IReadOnlyList<EntryRow> NotificationsOf(int space, ReceiptRow receipt) => Use(sql => receipt.Person == 0
        ? EntryAt(sql, space, receipt.Position) is { } one ? [one] : []
        : (IReadOnlyList<EntryRow>)[.. sql.All(
        "SELECT position FROM log_item WHERE log=?1 AND ordinal>=?2 AND ordinal<=?3 ORDER BY ordinal", r => r.GetInt64(0), receipt.Log,
        receipt.Run.From, receipt.Run.To)
            .Select(position => EntryAt(sql, space, position)).OfType<EntryRow>()]);

    /// <summary>The name of a person.</summary>
    public string? NameOf(long person) => Use(sql => sql.One("SELECT name FROM person WHERE id=?1", r => r.GetString(0), person));

    /// <summary>Users of a space by their ids, after one.</summary>
    public IReadOnlyList<PersonRow> Users(int space, string after, int limit) => Use(sql =>
        sql.All(Rows.SelectPerson + " WHERE space=?1 AND name>?2 AND name>=' ' AND seen IS NOT NULL ORDER BY name LIMIT ?3", Rows.Person,
        (long)space, after, (long)limit));

    /// <summary>Roles of a space that anybody ever held or that are set to something, with how many hold them.</summary>
    public IReadOnlyList<(string Role, long Users)> Roles(int space) => Use(sql =>
        sql.All("SELECT address, members FROM address WHERE space=?1 AND address LIKE 'role:%' UNION SELECT 'role:' || role, 0 FROM " +
        "role WHERE space=?1 AND NOT EXISTS (SELECT 1 FROM address a WHERE a.space=role.space AND a.address='role:' || role.role) ORDER " +
        "BY 1",
            r => (r.GetString(0)[5..], r.GetInt64(1)), (long)space));

    /// <summary>Known names that begin like a name, for suggestions; at most 500.</summary>
    public IReadOnlyList<string> NamesLike(int space, bool roles, string name) => Use(sql =>
    {
        var start = name[..Math.Min(1, name.Length)];
        return roles
            ? sql.All("SELECT substr(address, 6) FROM address WHERE space=?1 AND address LIKE 'role:%' LIMIT 500", r => r.GetString(0),
            (long)space)
            : sql.All("SELECT name FROM person WHERE space=?1 AND seen IS NOT NULL AND name>=?2 AND name<?3 LIMIT 500", r => r.GetString(0),
            (long)space, start, start + "\uFFFF");
    });

    /// <summary>Compares heads with items, and positions with their count.</summary>
    /// <returns>What is wrong; empty when nothing is.</returns>
    public IReadOnlyList<string> Check() => Use(sql =>
    {
        var wrong = sql.All("SELECT s.name, s.floor, count(e.key), max(e.key) - (s.id << 44) FROM space s JOIN entry e ON e.key >= s.id " +
            "<< 44 AND e.key < (s.id + 1) << 44 GROUP BY s.id, s.name, s.floor",
            r => (Space: r.GetString(0), Floor: r.GetInt64(1), Count: r.GetInt64(2), Head: r.GetInt64(3)))
            .Where(s => s.Count != s.Head - s.Floor)
            .Select(s => $"space {s.Space}: {s.Count} entries above {s.Floor}, but the newest position is {s.Head}").ToList();
        wrong.AddRange(sql.All("SELECT i.log, count(*), max(i.ordinal), l.trimmed FROM log_item i JOIN log l ON l.id=i.log GROUP BY " +
            "i.log, l.trimmed HAVING count(*)<>max(i.ordinal)-l.trimmed",
            r => $"log {r.GetInt64(0)}: {r.GetInt64(1)} notifications above {r.GetInt64(3)}, but the newest ordinal is {r.GetInt64(2)}"));
        wrong.AddRange(sql.All("SELECT i.log, i.ordinal FROM log_item i JOIN log l ON l.id=i.log LEFT JOIN entry e ON e.key=(l.space << " +
            "44)+i.position WHERE e.key IS NULL LIMIT 20",
            r => $"log {r.GetInt64(0)}: the notification {r.GetInt64(1)} has no entry"));
        return wrong;
    });

    /// <summary>Every position of a space in order, with the id of the notification and whom it was addressed to, for checkers.</summary>
    public IReadOnlyList<(long Position, NotificationId? Id, string Addressing)> History(int space) => Use(sql =>
        sql.All("SELECT key, id, kind, addressing FROM entry WHERE key>=?1 AND key<=?2 ORDER BY key",
        r => (Rows.PositionOf(r.GetInt64(0)), r.GetInt64(2) == 1 ? (NotificationId?)Rows.Id(Rows.Bytes(r, 1)) : null, r.GetString(3)),
        Rows.First(space), Rows.Last(space)));

    T Use<T>(Func<ISql, T> work)
    {
        ObjectDisposedException.ThrowIf(disposed, this);
        if (idle.TryPop(out var sql)) Interlocked.Decrement(ref kept);
        else sql = open();
        bool sound = false;
        try
        {
            sql.BeginReading();
            var result = work(sql);
            sql.Commit();
            sound = true;
            return result;
        }
        finally
        {
            if (!sound) sql.Rollback();
            if (!disposed && Interlocked.Increment(ref kept) <= MostKept)
            {
                idle.Push(sql);
            }
            else
            {
                Interlocked.Decrement(ref kept);
                sql.Dispose();
            }
        }
    }

    /// <inheritdoc/>
    public void Dispose()
    {
        disposed = true;
        while (idle.TryPop(out var sql)) sql.Dispose();
    }
}
