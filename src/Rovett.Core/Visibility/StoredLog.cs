using Rovett.Core.Marks;
using Rovett.Core.Store;

namespace Rovett.Core.Visibility;

/// <summary>One log of a plan as its user sees it, over stored rows: only the blocks that are looked at are fetched.</summary>
sealed class StoredLog(UserLog own, IHistoryRows rows, long person)
{
    /// <summary>The visible part of it, and its marks.</summary>
    public UserLog Own { get; } = own;

    /// <summary>The log's number.</summary>
    public long Id => Own.Log.Id;

    /// <summary>The logs of a plan at the moment of some rows.</summary>
    public static List<StoredLog> Of(ReadPlan plan, IHistoryRows rows)
    {
        var stored = rows.UserLogs(plan.Person).ToDictionary(r => r.Log);
        // Retention may have gone on since the plan was made; what it took is not to be looked for.
        bool trimmed = rows.Floor(plan.Space) > 0;
        var taken = rows.TakenBy(plan.Person);
        var logs = new List<StoredLog>(plan.Logs.Count);
        foreach (var planned in plan.Logs)
        {
            var log = AddressLog.Planned(planned, trimmed ? rows.Trimmed(planned.Log) : planned.Trimmed,
                rows.Blocks(0, planned.Log, MarkKind.Dead));
            var own = new UserLog(log, [.. planned.Segments], stored.GetValueOrDefault(planned.Log), rows, plan.Person,
                planned.SubscribedMuted);
            foreach (var place in taken)
            {
                if (place.Log == planned.Log) own.Own(place.Ordinal);
            }
            logs.Add(new StoredLog(own, rows, plan.Person));
        }
        return logs;
    }

    /// <summary>The ordinal of the newest notification up to a position.</summary>
    public long OrdinalAt(long position) => position <= 0 ? 0 : Math.Max(Own.Log.Trimmed, rows.OrdinalAt(Id, position));

    /// <summary>The notifications before a position, newest first, a few at a time.</summary>
    public NewestFirst Before(long before, InboxState state)
    {
        long end = before == long.MaxValue ? long.MaxValue : rows.OrdinalAt(Id, before - 1);
        return new NewestFirst(this, [.. state switch
        {
            InboxState.Unread => Own.Visible(0, end, Own.Read, Own.Muted),
            InboxState.Read => Own.ReadOnes(end),
            _ => Own.Visible(0, end),
        }]);
    }

    /// <summary>When the user saw an ordinal, or a device acknowledged it; null when not. Looked up only for those that
    /// are marked.</summary>
    public StoredTime? MarkedAt(MarkKind kind, long ordinal) =>
        (kind == MarkKind.Read ? Own.Read : Own.Received).Contains(ordinal) ? rows.MarkedAt(Id, kind, person, ordinal) : null;

    /// <summary>Unread ordinals by the hash of their type, with one position of each type to find its name by.</summary>
    public IEnumerable<(long Type, long Position, long Count)> UnreadTypes()
    {
        foreach (var (run, _) in Own.Visible(0, long.MaxValue, Own.Read, Own.Muted))
        {
            foreach (var group in rows.TypesIn(Id, run)) yield return group;
        }
    }

    /// <summary>How many unread ordinals are about a subject.</summary>
    public long UnreadAbout(long subjectHash)
    {
        long count = 0;
        foreach (long ordinal in rows.OrdinalsAbout(Id, subjectHash))
        {
            if (Own.IsToldOf(ordinal) && !Own.Read.Contains(ordinal)) count++;
        }
        return count;
    }

    /// <summary>Reads down the runs of a log.</summary>
    public sealed class NewestFirst(StoredLog log, List<(OrdinalRun Run, string Address)> runs)
    {
        const int AtOnce = 8;

        readonly List<(long Position, string Address, long Ordinal)> found = new(AtOnce);
        int run = runs.Count - 1, next;
        long below = long.MaxValue; // of the run, what was read already

        /// <summary>The log.</summary>
        public StoredLog Log => log;

        /// <summary>The one it stands at.</summary>
        public (long Position, string Address, long Ordinal) Current => found[next];

        /// <summary>Goes to the next one; false when there is none.</summary>
        public bool Move()
        {
            if (++next < found.Count) return true;
            found.Clear();
            for (next = 0; run >= 0 && found.Count == 0;)
            {
                var (span, address) = runs[run];
                if (below > span.From)
                {
                    foreach (var (ordinal, position) in log.Items(span with { To = Math.Min(span.To, below - 1) }, AtOnce))
                    {
                        found.Add((position, address, ordinal));
                    }
                }
                if (found.Count == AtOnce) below = found[^1].Ordinal;
                else (run, below) = (run - 1, long.MaxValue);
            }
            return found.Count > 0;
        }
    }

    IReadOnlyList<(long Ordinal, long Position)> Items(OrdinalRun run, int limit) => rows.Items(Id, run, limit, newestFirst: true);
}
