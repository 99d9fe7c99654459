using System.Collections.Concurrent;
using Microsoft.Data.Sqlite;
using Rovett.Core.AddressLogs;
using Rovett.Core.Ledger;
using Rovett.Core.Marks;

namespace Rovett.Storage.Sqlite;

/// <summary>Which notifications of an inbox.</summary>
public enum InboxState
{
    /// <summary>Every one.</summary>
    All,
    /// <summary>Not marked read.</summary>
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
}

/// <summary>A page and whether there is more beyond it.</summary>
public sealed record FoundPage(IReadOnlyList<FoundItem> Items, bool More);

/// <summary>A notification as operators see it: with everybody it was addressed to, and how many have it.</summary>
public sealed record OperatorItem(EntryRow Entry, long Received, long Read);

/// <summary>Reads the history for sessions that are behind, inboxes and operators: any number of threads, each on a
/// connection of its own; never waits for the writer, and never makes it wait.</summary>
public sealed class SqliteHistoryReader(string path) : IDisposable
{
    readonly ConcurrentBag<Reading> idle = [];
    volatile bool disposed;

    /// <summary>The next notifications of a user after a position, oldest first.</summary>
    /// <param name="plan">What the user may see.</param>
    /// <param name="space">The space's number.</param>
    /// <param name="after">Positions up to here are left out.</param>
    /// <param name="limit">The most to find.</param>
    /// <param name="unreceivedOnly">Leave out what any device of the user acknowledged.</param>
    /// <param name="known">Finds a notification already in memory, so that its body need not be read.</param>
    public (List<(long Position, string Address, long Log, long Ordinal, EntryRow? Entry)> Items, bool More) After(
        ReadPlan plan, int space, long after, int limit, bool unreceivedOnly, Func<long, bool> known) => Use(reading =>
    {
        var found = new List<(long Position, string Address, long Log, long Ordinal, EntryRow? Entry)>();
        bool more = false;
        foreach (var log in plan.Logs)
        {
            long start = reading.OrdinalAt(log.Log, after);
            int before = found.Count;
            foreach (var (run, address) in Wanted(log, start, long.MaxValue, unreceivedOnly ? log.Received : null))
            {
                int need = limit + 1 - (found.Count - before);
                if (need <= 0) break;
                foreach (var (ordinal, position) in reading.Ascending(log.Log, run, need)) found.Add((position, address, log.Log, ordinal, null));
            }
        }
        found.Sort((a, b) => a.Position.CompareTo(b.Position));
        if (found.Count > limit)
        {
            more = true;
            found.RemoveRange(limit, found.Count - limit);
        }
        for (int i = 0; i < found.Count; i++)
        {
            if (!known(found[i].Position)) found[i] = found[i] with { Entry = reading.Entry(space, found[i].Position) };
        }
        return (found, more);
    });

    /// <summary>One page of an inbox, newest first.</summary>
    /// <param name="plan">What the user may see, with marks.</param>
    /// <param name="space">The space's number.</param>
    /// <param name="before">Only positions below this; long.MaxValue for the first page.</param>
    /// <param name="limit">The most to find.</param>
    /// <param name="state">Which.</param>
    public FoundPage Inbox(ReadPlan plan, int space, long before, int limit, InboxState state) => Use(reading =>
    {
        var found = new List<(long Position, string Address, long Log, long Ordinal)>();
        foreach (var log in plan.Logs)
        {
            long end = before == long.MaxValue ? long.MaxValue : reading.OrdinalAt(log.Log, before - 1);
            int first = found.Count;
            var wanted = state switch
            {
                InboxState.Unread => Wanted(log, 0, end, log.Read),
                InboxState.Read => Within(log, 0, end, log.Read!),
                _ => Wanted(log, 0, end, null),
            };
            for (int i = wanted.Count - 1; i >= 0 && found.Count - first <= limit; i--)
            {
                foreach (var (ordinal, position) in reading.Descending(log.Log, wanted[i].Run, limit + 1 - (found.Count - first))) found.Add((position, wanted[i].Address, log.Log, ordinal));
            }
        }
        found.Sort((a, b) => b.Position.CompareTo(a.Position));
        bool more = found.Count > limit;
        return new FoundPage([.. found.Take(limit).Select(f => reading.Item(plan.User.PersonId, space, f))], more);
    });

    /// <summary>One notification of a user by its id, or null when the user has none such: asked the same way whether it exists or not.</summary>
    public FoundItem? InboxItem(ReadPlan plan, int space, NotificationId id) => Use(reading =>
    {
        var entry = reading.EntryById(space, id);
        foreach (var place in entry?.Placements ?? [])
        {
            if (plan.Logs.FirstOrDefault(l => l.Log == place.Log) is not { } log || log.Dead.Contains(place.Ordinal) || log.Skips.Contains(place.Ordinal)) continue;
            foreach (var s in log.Segments)
            {
                if (place.Ordinal > s.Lo && place.Ordinal <= s.Hi)
                    return reading.Item(plan.User.PersonId, space, (entry!.Position.Value, log.Addresses[s.AddressIndex], place.Log, place.Ordinal));
            }
        }
        return null;
    });

    /// <summary>The newest notifications of a space, newest first.</summary>
    public IReadOnlyList<EntryRow> Newest(int space, int limit) => Use(reading => reading.NewestEntries(space, limit));

    /// <summary>How many people received and read a notification up to a time. Looks at every run of its logs: not for
    /// any path that must be quick.</summary>
    public (long Received, long Read) People(IReadOnlyList<Placement> placements, StoredTime before) => Use(reading =>
        (placements.Sum(p => reading.People(p, MarkKind.Received, before)), placements.Sum(p => reading.People(p, MarkKind.Read, before))));

    /// <summary>A notification by its id for operators and backends, or null.</summary>
    public OperatorItem? ById(int space, NotificationId id)
    {
        if (Use(reading => reading.EntryById(space, id)) is not { } entry) return null;
        var (received, read) = People(entry.Placements, new StoredTime(long.MaxValue));
        return new OperatorItem(entry, received, read);
    }

    /// <summary>Known names that begin like a name, for suggestions; at most 500.</summary>
    public IReadOnlyList<string> NamesLike(int space, bool roles, string name) => Use(reading => reading.NamesLike(space, roles, name));

    /// <summary>Reads every tree of the file and compares heads with items.</summary>
    /// <returns>What is wrong; empty when nothing is.</returns>
    public IReadOnlyList<string> Check() => Use(reading => reading.Check());

    /// <summary>Every notification id of a space in the order of positions, and the positions, for checkers.</summary>
    public IReadOnlyList<(long Position, NotificationId? Id)> History(int space) => Use(reading => reading.History(space));

    /// <summary>Runs of what the user may see in (from, to], without those in <paramref name="minus"/>.</summary>
    static List<(OrdinalRun Run, string Address)> Wanted(PlannedLog log, long from, long to, OrdinalSet? minus)
    {
        var wanted = new List<(OrdinalRun, string)>();
        var runs = new List<OrdinalRun>();
        foreach (var s in log.Segments)
        {
            runs.Clear();
            long lo = Math.Max(s.Lo, from), hi = Math.Min(s.Hi, to);
            if (minus is null)
            {
                if (hi > lo) runs.Add(new OrdinalRun(lo + 1, hi));
            }
            else minus.Runs(lo, hi, present: false, runs);
            Alive(log, runs, log.Addresses[s.AddressIndex], wanted);
        }
        return wanted;
    }

    static List<(OrdinalRun Run, string Address)> Within(PlannedLog log, long from, long to, OrdinalSet within)
    {
        var wanted = new List<(OrdinalRun, string)>();
        var runs = new List<OrdinalRun>();
        foreach (var s in log.Segments)
        {
            runs.Clear();
            within.Runs(Math.Max(s.Lo, from), Math.Min(s.Hi, to), present: true, runs);
            Alive(log, runs, log.Addresses[s.AddressIndex], wanted);
        }
        return wanted;
    }

    static void Alive(PlannedLog log, List<OrdinalRun> runs, string address, List<(OrdinalRun, string)> into)
    {
        foreach (var set in new[] { log.Dead, log.Skips })
        {
            if (set.IsEmpty) continue;
            var alive = new List<OrdinalRun>();
            foreach (var run in runs) set.Runs(run.From - 1, run.To, present: false, alive);
            runs = alive;
        }
        foreach (var run in runs) into.Add((run, address));
    }

    T Use<T>(Func<Reading, T> work)
    {
        ObjectDisposedException.ThrowIf(disposed, this);
        if (!idle.TryTake(out var reading)) reading = new Reading(SqliteFiles.Open(path, readOnly: true));
        try
        {
            return work(reading);
        }
        finally
        {
            if (disposed || idle.Count >= 8) reading.Dispose();
            else idle.Add(reading);
        }
    }

    /// <inheritdoc/>
    public void Dispose()
    {
        disposed = true;
        while (idle.TryTake(out var reading)) reading.Dispose();
    }

    sealed class Reading(SqliteConnection connection) : IDisposable
    {
        readonly Dictionary<string, Statement> statements = [];

        Statement On(string sql)
        {
            if (!statements.TryGetValue(sql, out var statement)) statements[sql] = statement = new Statement(connection, sql);
            return statement;
        }

        public long OrdinalAt(long log, long position) => position <= 0 ? 0
            : On("SELECT ordinal FROM log_item WHERE log=?1 AND position<=?2 ORDER BY position DESC LIMIT 1").Number(log, position) ?? 0;

        public List<(long, long)> Ascending(long log, OrdinalRun run, int limit) =>
            On("SELECT ordinal, position FROM log_item WHERE log=?1 AND ordinal>=?2 AND ordinal<=?3 ORDER BY ordinal LIMIT ?4").All(r => (r.GetInt64(0), r.GetInt64(1)), log, run.From, run.To, limit);

        public List<(long, long)> Descending(long log, OrdinalRun run, int limit) =>
            On("SELECT ordinal, position FROM log_item WHERE log=?1 AND ordinal>=?2 AND ordinal<=?3 ORDER BY ordinal DESC LIMIT ?4").All(r => (r.GetInt64(0), r.GetInt64(1)), log, run.From, run.To, limit);

        public EntryRow? Entry(int space, long position) =>
            On(Rows.SelectEntry + " WHERE key=?1").One(Rows.ReadEntry, ((long)space << SqliteLedgerStore.SpaceShift) + position);

        public EntryRow? EntryById(int space, NotificationId id)
        {
            long from = (long)space << SqliteLedgerStore.SpaceShift;
            return On(Rows.SelectEntry + " WHERE id=?1 AND key>=?2 AND key<?3").One(Rows.ReadEntry, Rows.IdBytes(id), from, from + (1L << SqliteLedgerStore.SpaceShift));
        }

        public FoundItem Item(long person, int space, (long Position, string Address, long Log, long Ordinal) f) =>
            new(Entry(space, f.Position)!, f.Address, f.Log, f.Ordinal)
            {
                Received = MarkedAt(person, f.Log, f.Ordinal, MarkKind.Received),
                Read = MarkedAt(person, f.Log, f.Ordinal, MarkKind.Read),
            };

        StoredTime? MarkedAt(long person, long log, long ordinal, MarkKind kind)
        {
            var run = On("SELECT to_ord, time FROM mark_run WHERE log=?1 AND kind=?2 AND person=?3 AND from_ord<=?4 ORDER BY from_ord DESC LIMIT 1").One(r => new long[] { r.GetInt64(0), r.GetInt64(1) }, log, (int)kind, person, ordinal);
            return run is not null && run[0] >= ordinal ? new StoredTime(run[1]) : null;
        }

        public List<EntryRow> NewestEntries(int space, int limit)
        {
            long from = (long)space << SqliteLedgerStore.SpaceShift;
            return On(Rows.SelectEntry + " WHERE key>=?1 AND key<?2 AND kind=1 ORDER BY key DESC LIMIT ?3").All(Rows.ReadEntry, from, from + (1L << SqliteLedgerStore.SpaceShift), limit);
        }

        public long People(Placement place, MarkKind kind, StoredTime before) =>
            On("SELECT count(*) FROM mark_run WHERE log=?1 AND kind=?2 AND from_ord<=?3 AND to_ord>=?3 AND time<?4").Number(place.Log, (int)kind, place.Ordinal, before.Micros) ?? 0;

        public List<string> NamesLike(int space, bool roles, string name)
        {
            var start = name[..Math.Min(1, name.Length)];
            return roles
                ? On("SELECT substr(address, 6) FROM address WHERE space=?1 AND address LIKE 'role:%' LIMIT 500").All(r => r.GetString(0), space)
                : On("SELECT user FROM person WHERE space=?1 AND seen IS NOT NULL AND user>=?2 AND user<?3 LIMIT 500").All(r => r.GetString(0), space, start, start + "\uFFFF");
        }

        public List<string> Check()
        {
            var wrong = On("PRAGMA integrity_check").All(r => r.GetString(0)).Where(line => line != "ok").ToList();
            wrong.AddRange(On("SELECT s.name, count(e.key), max(e.key) - (s.id << 44) FROM space s JOIN entry e ON e.key >= s.id << 44 AND e.key < (s.id + 1) << 44 GROUP BY s.id").All(
                r => (Space: r.GetString(0), Count: r.GetInt64(1), Head: r.GetInt64(2))).Where(s => s.Count != s.Head).Select(s => $"space {s.Space}: {s.Count} entries, but the newest position is {s.Head}"));
            wrong.AddRange(On("SELECT log, count(*), max(ordinal) FROM log_item GROUP BY log HAVING count(*)<>max(ordinal)").All(
                r => $"log {r.GetInt64(0)}: {r.GetInt64(1)} notifications, but the newest ordinal is {r.GetInt64(2)}"));
            return wrong;
        }

        public List<(long, NotificationId?)> History(int space)
        {
            long from = (long)space << SqliteLedgerStore.SpaceShift;
            return On("SELECT key, id FROM entry WHERE key>=?1 AND key<?2 ORDER BY key").All(
                r => (r.GetInt64(0) - from, r.IsDBNull(1) ? (NotificationId?)null : Rows.Id((byte[])r[1])), from, from + (1L << SqliteLedgerStore.SpaceShift));
        }

        public void Dispose()
        {
            foreach (var statement in statements.Values) statement.Dispose();
            connection.Dispose();
        }
    }
}
