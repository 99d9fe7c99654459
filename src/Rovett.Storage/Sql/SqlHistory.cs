using System.Collections.Concurrent;
using System.Data.Common;
using System.Text.RegularExpressions;
using Rovett.Core.Marks;
using Rovett.Core.Notifications;
using Rovett.Core.Store;

namespace Rovett.Storage.Sql;

/// <summary>How many people have a notification in each state.</summary>
public sealed record PeopleCounts(long Received, long Handled, long Read);

/// <summary>One person's receipt of a notification.</summary>
public sealed record PersonReceipt(string User, StoredTime? Received, StoredTime? Handled, StoredTime? Read, string Device);

/// <summary>A notification as backends and operators see it.</summary>
public sealed record OperatorItem(EntryRow Entry, PeopleCounts People)
{
    /// <summary>Its changes, oldest first.</summary>
    public IReadOnlyList<EntryRow> Timeline { get; init; } = [];
    /// <summary>The first time it reached each state, for anybody.</summary>
    public PersonReceipt? First { get; init; }
    /// <summary>The taker, and until when.</summary>
    public (string User, StoredTime? Until)? Taken { get; init; }
    /// <summary>Its deadlines.</summary>
    public IReadOnlyList<DeadlineRow> Deadlines { get; init; } = [];
    /// <summary>Each person's receipt, when they are kept.</summary>
    public IReadOnlyList<PersonReceipt> Receipts { get; init; } = [];
}

/// <summary>Reads the history: any number of threads, each on a connection of its own; never waits for the writer, and
/// never makes it wait.</summary>
/// <param name="open">Opens a connection.</param>
/// <param name="most">The most connections at once; who wants another waits.</param>
public sealed partial class SqlHistory(Func<ISql> open, int most = int.MaxValue) : IHistoryStore, IDisposable
{
    /// <summary>The most single receipts that are listed of a notification.</summary>
    public const int MaxReceipts = 1000;

    const int MostKept = 16;

    readonly ConcurrentStack<ISql> idle = [];
    int kept; // how many are idle; counting the stack would walk it
    readonly SemaphoreSlim? turns = most == int.MaxValue ? null : new SemaphoreSlim(most);
    volatile bool disposed;

    /// <summary>Every space as it is opened at a start, oldest first.</summary>
    public IReadOnlyList<OpenedSpace> OpenedSpaces() => Use(OpenedSpace.All);

    /// <summary>A space as it is opened at a start; null: there is none of that number.</summary>
    public OpenedSpace? OpenedSpaceOf(int space) => Use(sql => OpenedSpace.One(sql, space));

    /// <summary>The newest notifications of a space, newest first.</summary>
    public IReadOnlyList<EntryRow> Newest(int space, int limit) => Use(sql =>
        sql.All(Rows.SelectEntry + " WHERE key>=?1 AND key<=?2 AND kind=1 ORDER BY key DESC LIMIT ?3", Rows.Entry, Rows.First(space),
        Rows.Last(space), (long)limit));

    /// <summary>How many erasures are under way in a space.</summary>
    public long Erasures(int space) =>
        (Use(sql => Tuple.Create(sql.Number("SELECT count(*) FROM erasure WHERE space=?1", (long)space) ?? 0)) ?? Tuple.Create(0L)).Item1;

    /// <summary>Work set aside in a space, newest first.</summary>
    public IReadOnlyList<SetAsideRow> SetAside(int space, int limit) => Use(sql =>
        sql.All(SqlLedgerStore.SelectAside + " ORDER BY number DESC LIMIT ?2", SqlLedgerStore.Aside, (long)space, (long)limit));

    /// <summary>Work set aside in a space after a number, oldest first.</summary>
    public IReadOnlyList<SetAsideRow> SetAsideAfter(int space, long after, int limit) => Use(sql =>
        sql.All(SqlLedgerStore.SelectAside + " AND number>?2 ORDER BY number LIMIT ?3", SqlLedgerStore.Aside, (long)space, after,
        (long)limit));

    /// <summary>How much is set aside in a space.</summary>
    public long CountSetAside(int space) =>
        (Use(sql => Tuple.Create(sql.Number("SELECT count(*) FROM set_aside WHERE space=?1", (long)space) ?? 0)) ?? Tuple.Create(0L)).Item1;

    /// <summary>How much is set aside, in each space where something is.</summary>
    public IReadOnlyList<(int Space, long Count)> SetAsideBySpace() => CountBySpace("set_aside");

    /// <summary>How many webhook calls and e-mails are to be made, in each space where some are.</summary>
    public IReadOnlyList<(int Space, long Count)> OutboundBySpace() => CountBySpace("outbound");

    IReadOnlyList<(int Space, long Count)> CountBySpace(string table) => Use(sql =>
        sql.All($"SELECT space, count(*) FROM {table} GROUP BY space", static r => ((int)r.GetInt64(0), r.GetInt64(1))));

    /// <summary>How many people of a space are known, and how many roles and topics somebody holds.</summary>
    public (long People, long Channels) CountPeople(int space) => Use(sql => (
        sql.Number("SELECT count(*) FROM person WHERE space=?1 AND name>=' ' AND seen IS NOT NULL", (long)space) ?? 0,
        sql.Number("SELECT count(*) FROM address WHERE space=?1 AND members>0 AND address<>'everyone'", (long)space) ?? 0));

    /// <summary>How many calls of a webhook wait.</summary>
    public long CountOutbound(int space, string webhook) => (Use(sql => Tuple.Create(sql.Number(
        "SELECT count(*) FROM otherwise WHERE space=?1 AND kind=2 AND state=1 AND target=?2", (long)space, webhook) ?? 0))
        ?? Tuple.Create(0L)).Item1;

    /// <summary>The events that a notification came of, with the rule that made it; at most a number of them.</summary>
    public IReadOnlyList<StoredOrigin> Origins(int space, NotificationId id, int limit) => Use(sql =>
        sql.All("SELECT o.source, o.event, o.rule, e.time, e.trace FROM origin o LEFT JOIN event e ON e.space=o.space AND " +
        "e.source=o.source AND e.id=o.event WHERE o.space=?1 AND o.notification=?2 ORDER BY e.time LIMIT ?3",
        r => new StoredOrigin(r.GetString(0), r.GetString(1), r.GetString(2), Rows.Number(r, 3) is { } time ? new StoredTime(time) : null,
        Rows.Text(r, 4)), (long)space, Rows.IdBytes(id), (long)limit));

    /// <summary>The trace of the first event that a notification came of and that names one, or null.</summary>
    public string? TraceOf(int space, NotificationId id) => Use(sql =>
        sql.One("SELECT e.trace FROM origin o JOIN event e ON e.space=o.space AND e.source=o.source AND e.id=o.event " +
        "WHERE o.space=?1 AND o.notification=?2 AND e.trace IS NOT NULL ORDER BY e.time LIMIT 1", r => r.GetString(0), (long)space,
        Rows.IdBytes(id)));

    /// <summary>An event that was taken, or null.</summary>
    public EventRow? Event(int space, string source, string id) => Use(sql => SqlLedgerStore.EventOf(sql, space, source, id));

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
        if (SqlHistoryRows.NotificationById(sql, space, id) is not { } entry) return null;
        bool full = entry.Traits.Receipts == ReceiptLevel.Full;
        var item = new OperatorItem(entry, entry.Traits.Receipts == ReceiptLevel.None
            ? new PeopleCounts(0, 0, 0)
            : People(sql, entry.Placements))
        {
            Timeline = Timeline(sql, space, entry),
            Deadlines = SqlLedgerStore.DeadlinesOf(sql, space, entry.Position.Value),
            Taken = TakerOf(sql, space, entry),
        };
        return full ? item with { Receipts = Receipts(sql, entry) } : item;
    });

    /// <summary>The last change to a notification; null: unchanged, or taken and given back.</summary>
    public EntryKind? LastChange(EntryRow entry) => Use(sql => CurrentChange(sql, entry));

    static EntryKind? CurrentChange(ISql sql, EntryRow entry)
    {
        if (entry.Placements is not [var place, ..]) return null;
        var kind = (EntryKind?)sql.Number("SELECT kind FROM change WHERE log=?1 AND position>?2 AND ordinal=?3 AND kind<>6 ORDER BY " +
            "position DESC LIMIT 1", place.Log, entry.Position.Value, place.Ordinal);
        return kind is EntryKind.Released ? null : kind;
    }

    /// <summary>The taker of a notification, and until when; null: nobody.</summary>
    static (string User, StoredTime? Until)? TakerOf(ISql sql, int space, EntryRow entry) =>
        sql.One("SELECT p.name, t.until FROM take t JOIN person p ON p.id=t.person WHERE t.space=?1 AND t.position=?2",
        r => Tuple.Create(r.GetString(0), Rows.Number(r, 1)), (long)space, entry.Position.Value) is var (user, until)
        ? (user, until is { } end ? new StoredTime(end) : null) : null;

    static List<EntryRow> Timeline(ISql sql, int space, EntryRow entry)
    {
        if (entry.Placements.Length == 0) return [];
        var place = entry.Placements[0];
        return [.. sql.All("SELECT position FROM change WHERE log=?1 AND position>?2 AND ordinal=?3 AND kind<>6 ORDER BY position",
            r => r.GetInt64(0), place.Log, entry.Position.Value, place.Ordinal)
            .Select(position => SqlHistoryRows.EntryAt(sql, space, position)!)];
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
        ? SqlHistoryRows.EntryAt(sql, space, receipt.Position) is { } one ? [one] : []
        : (IReadOnlyList<EntryRow>)[.. sql.All(
        "SELECT position FROM log_item WHERE log=?1 AND ordinal>=?2 AND ordinal<=?3 ORDER BY ordinal", r => r.GetInt64(0), receipt.Log,
        receipt.Run.From, receipt.Run.To)
            .Select(position => SqlHistoryRows.EntryAt(sql, space, position)).OfType<EntryRow>()]);

    /// <summary>The name of a person.</summary>
    public string? NameOf(long person) => Use(sql => sql.One("SELECT name FROM person WHERE id=?1", r => r.GetString(0), person));

    /// <summary>Users of a space by their ids, after one; with a text, those who have it in their id or name.</summary>
    public IReadOnlyList<PersonRow> Users(int space, string after, int limit, string? text = null) => Use(sql =>
    {
        const string which = " WHERE space=?1 AND name>?2 AND name>=' ' AND seen IS NOT NULL", order = " ORDER BY name LIMIT ?3";
        const string says = " AND (lower(name) LIKE ?4 ESCAPE '\\' OR lower(display_name) LIKE ?4 ESCAPE '\\')";
        if (text is null) return sql.All(Rows.SelectPerson + which + order, Rows.Person, (long)space, after, (long)limit);
        var pattern = "%" + Regex.Replace(text.ToLowerInvariant(), @"[\\%_]", @"\$0") + "%";
        return sql.All(Rows.SelectPerson + which + says + order, Rows.Person, (long)space, after, (long)limit, pattern);
    });

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

    /// <inheritdoc/>
    public T Read<T>(Func<IHistoryRows, T> work) => Use(sql => work(new SqlHistoryRows(sql)));

    T Use<T>(Func<ISql, T> work)
    {
        ObjectDisposedException.ThrowIf(disposed, this);
        turns?.Wait();
        try
        {
            if (!idle.TryPop(out var sql)) return Use(open(), work);
            Interlocked.Decrement(ref kept);
            try
            {
                return Use(sql, work);
            }
            catch (Exception error) when (StoreFailures.Is(error))
            {
                return Use(open(), work); // the server may have closed it while it was idle
            }
        }
        finally
        {
            turns?.Release();
        }
    }

    T Use<T>(ISql sql, Func<ISql, T> work)
    {
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
