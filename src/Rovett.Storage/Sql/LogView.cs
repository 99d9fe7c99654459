using Rovett.Core.Delivery;
using Rovett.Core.Marks;
using Rovett.Core.Store;
using Rovett.Core.Visibility;

namespace Rovett.Storage.Sql;

/// <summary>One log as one user sees it, read out of the store at one moment: only the blocks that are looked at are loaded.</summary>
sealed class LogView
{
    readonly ISql sql;
    readonly OrdinalSet dead, read, received;
    readonly long person;
    readonly bool hasSkips;
    OrdinalSet? skips;

    public LogView(ISql sql, long person, long[] mine, PlannedLog log, UserLogRow? row)
    {
        this.sql = sql;
        this.person = person;
        Log = log;
        Mine = mine;
        var parts = row?.Parts ?? UserLogParts.None;
        OrdinalSet Marks(long line, UserLogParts part, MarkKind kind) =>
            new(line, (parts & part) == 0 ? null : new StoredBlocks(sql, person, log.Log, kind));
        read = Marks(row?.ReadLine ?? 0, UserLogParts.Read, MarkKind.Read);
        received = Marks(row?.ReceivedLine ?? 0, UserLogParts.Received, MarkKind.Received);
        Muted = log.SubscribedMuted ?? Marks(row?.MutedLine ?? 0, UserLogParts.Muted, MarkKind.Muted);
        dead = new OrdinalSet(0, new StoredBlocks(sql, 0, log.Log, MarkKind.Dead));
        hasSkips = (parts & UserLogParts.Skips) != 0;
    }

    public PlannedLog Log { get; }

    /// <summary>The taken ordinals that are the user's own.</summary>
    public long[] Mine { get; }

    public OrdinalSet Muted { get; }

    OrdinalSet Skips
    {
        get
        {
            if (skips is not null) return skips;
            skips = new OrdinalSet();
            if (hasSkips)
            {
                sql.All("SELECT ordinal FROM skip WHERE person=?1 AND log=?2 ORDER BY ordinal", r => r.GetInt64(0), person, Log.Log)
                    .ForEach(o => skips.Add(new OrdinalRun(o, o)));
            }
            return skips;
        }
    }

    /// <summary>The entries after a position: living notifications, and changes of those the user may have.</summary>
    public void After(long after, int limit, FirstVisit? first, long head, List<FoundEntry> into)
    {
        long start = OrdinalAt(after);
        int before = into.Count;
        // What came since the session began is everybody's, whichever device has it.
        long began = first is null ? start : Math.Max(start, OrdinalAt(first.UpTo));
        foreach (var (run, address) in Visible(start, began, [Muted, received]).Concat(Visible(began, long.MaxValue, [Muted])))
        {
            int need = limit - (into.Count - before);
            if (need <= 0) break;
            Items(run, address, need, "ASC", into);
        }
        Changes(Math.Max(after, first?.Since ?? 0), limit, head, into);
    }

    long OrdinalAt(long position) => position <= 0 ? 0
        : Math.Max(Log.Trimmed,
        sql.Number("SELECT ordinal FROM log_item WHERE log=?1 AND position<=?2 ORDER BY position DESC LIMIT 1", Log.Log, position) ?? 0);

    /// <summary>What became of notifications since: of those that came since too, because the device may have read an
    /// inbox meanwhile.</summary>
    void Changes(long after, int limit, long head, List<FoundEntry> into)
    {
        int found = 0;
        for (long from = after; found < limit;)
        {
            var rows = sql.All("SELECT position, ordinal FROM change WHERE log=?1 AND position>?2 AND position<=?3 AND kind<>6 ORDER BY " +
                "position LIMIT ?4",
                r => (Position: r.GetInt64(0), Ordinal: r.GetInt64(1)), Log.Log, from, head, (long)limit);
            foreach (var (position, ordinal) in rows)
            {
                if (ordinal <= Log.Trimmed || Skips.Contains(ordinal) || SegmentAddress(ordinal) is not { } address) continue;
                into.Add(new FoundEntry(position, address, Log.Log, ordinal));
                if (++found == limit) return;
            }
            if (rows.Count < limit) return;
            from = rows[^1].Position;
        }
    }

    /// <summary>The notifications before a position, newest first, a few at a time.</summary>
    public NewestFirst Before(long before, InboxState state)
    {
        long end = before == long.MaxValue ? long.MaxValue
            : sql.Number("SELECT ordinal FROM log_item WHERE log=?1 AND position<?2 ORDER BY position DESC LIMIT 1", Log.Log, before) ?? 0;
        return new NewestFirst(this, state switch
        {
            InboxState.Unread => Visible(0, end, [read, Muted]),
            InboxState.Read => ReadOnes(end),
            _ => Visible(0, end, []),
        });
    }

    /// <summary>When the user marked an ordinal, or a device acknowledged it; null when not. Looked up only for those
    /// that are marked.</summary>
    public StoredTime? MarkedAt(MarkKind kind, long ordinal)
    {
        if (!(kind == MarkKind.Read ? read : received).Contains(ordinal)) return null;
        var run = sql.One(
            "SELECT to_ord, time FROM mark_run WHERE log=?1 AND kind=?2 AND person=?3 AND from_ord<=?4 ORDER BY from_ord DESC LIMIT 1",
            r => Tuple.Create(r.GetInt64(0), r.GetInt64(1)), Log.Log, (long)kind, person, ordinal);
        return run is not null && run.Item1 >= ordinal ? new StoredTime(run.Item2) : null;
    }

    /// <summary>Reads down the runs of a log.</summary>
    public sealed class NewestFirst(LogView view, List<(OrdinalRun Run, string Address)> runs)
    {
        const int AtOnce = 8;

        readonly List<FoundEntry> found = new(AtOnce);
        int run = runs.Count - 1, next;
        long below = long.MaxValue; // of the run, what was read already

        public LogView View => view;

        public FoundEntry Current => found[next];

        /// <summary>Goes to the next one; false when there is none.</summary>
        public bool Move()
        {
            if (++next < found.Count) return true;
            found.Clear();
            for (next = 0; run >= 0 && found.Count == 0;)
            {
                var (span, address) = runs[run];
                if (below > span.From) view.Items(span with { To = Math.Min(span.To, below - 1) }, address, AtOnce, "DESC", found);
                if (found.Count == AtOnce) below = found[^1].Ordinal;
                else (run, below) = (run - 1, long.MaxValue);
            }
            return found.Count > 0;
        }
    }

    /// <summary>The address that reaches the user with a living ordinal, or null when it is not the user's to see.</summary>
    public string? AddressFor(long ordinal) =>
        ordinal <= Log.Trimmed || Skips.Contains(ordinal)
        || (dead.Contains(ordinal) && !Mine.Contains(ordinal)) ? null : SegmentAddress(ordinal);

    string? SegmentAddress(long ordinal)
    {
        foreach (var s in Log.Segments)
        {
            if (ordinal > s.Lo && ordinal <= s.Hi) return Log.Addresses[s.AddressIndex];
        }
        return null;
    }

    /// <summary>Unread ordinals by the hash of their type: with one position of each type, to find its name by.</summary>
    public IEnumerable<(long Type, long Position, long Count)> UnreadTypes()
    {
        foreach (var (run, _) in Visible(0, long.MaxValue, [read, Muted]))
        {
            foreach (var group in sql.All(
                "SELECT type, min(position), count(*) FROM log_item WHERE log=?1 AND ordinal>=?2 AND ordinal<=?3 GROUP BY type",
                r => (r.GetInt64(0), r.GetInt64(1), r.GetInt64(2)), Log.Log, run.From, run.To))
            {
                yield return group;
            }
        }
    }

    /// <summary>How many unread ordinals are about a subject.</summary>
    public long UnreadAbout(long subjectHash) =>
        sql.All("SELECT ordinal FROM log_item WHERE log=?1 AND subject=?2", r => r.GetInt64(0), Log.Log, subjectHash)
        .Count(o => AddressFor(o) is not null && !read.Contains(o) && !Muted.Contains(o));

    void Items(OrdinalRun run, string address, int limit, string order, List<FoundEntry> into)
    {
        foreach (var (ordinal, position) in sql.All(
            $"SELECT ordinal, position FROM log_item WHERE log=?1 AND ordinal>=?2 AND ordinal<=?3 ORDER BY ordinal {order} LIMIT ?4",
            r => (r.GetInt64(0), r.GetInt64(1)), Log.Log, run.From, run.To,
            (long)limit)) into.Add(new FoundEntry(position, address, Log.Log, ordinal));
    }

    /// <summary>Runs of what the user may see in (from, to], without those in any of the sets.</summary>
    List<(OrdinalRun Run, string Address)> Visible(long from, long to, OrdinalSet[] minus)
    {
        var wanted = new List<(OrdinalRun, string)>();
        foreach (var s in Log.Segments)
        {
            long lo = Math.Max(Math.Max(s.Lo, Log.Trimmed), from), hi = Math.Min(s.Hi, to);
            if (hi > lo) Alive([new OrdinalRun(lo + 1, hi)], minus, Log.Addresses[s.AddressIndex], wanted);
        }
        return wanted;
    }

    List<(OrdinalRun Run, string Address)> ReadOnes(long to)
    {
        var wanted = new List<(OrdinalRun, string)>();
        foreach (var s in Log.Segments)
        {
            var runs = new List<OrdinalRun>();
            read.Runs(Math.Max(s.Lo, Log.Trimmed), Math.Min(s.Hi, to), present: true, runs);
            Alive(runs, [], Log.Addresses[s.AddressIndex], wanted);
        }
        return wanted;
    }

    void Alive(List<OrdinalRun> runs, OrdinalSet[] minus, string address, List<(OrdinalRun, string)> into)
    {
        var mine = Mine.Where(
            o => dead.Contains(o) && runs.Exists(r => o >= r.From && o <= r.To) && !Skips.Contains(o) && !minus.Any(m => m.Contains(o)))
            .ToList();
        foreach (var set in (OrdinalSet[])[dead, Skips, .. minus])
        {
            if (set.IsEmpty) continue;
            var left = new List<OrdinalRun>();
            foreach (var run in runs) set.Runs(run.From - 1, run.To, present: false, left);
            runs = left;
        }
        if (mine.Count > 0)
        {
            // Taken by this user: dead to everybody else.
            runs.AddRange(mine.Select(o => new OrdinalRun(o, o)));
            runs.Sort((a, b) => a.From.CompareTo(b.From));
        }
        foreach (var run in runs) into.Add((run, address));
    }
}
