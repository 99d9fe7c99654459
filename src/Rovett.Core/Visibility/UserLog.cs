using Rovett.Core.Marks;
using Rovett.Core.Notifications;
using Rovett.Core.Store;

namespace Rovett.Core.Visibility;

/// <summary>One log as one user sees it. The unread count is never a scan: what lies above the read line, less what is
/// dead (by rank), less what is <see cref="Gone"/>.</summary>
public sealed class UserLog
{
    internal UserLog(AddressLog log, Segment[] segments, UserLogRow? row, IMarkSource stored, long person,
        OrdinalSet? muted = null)
    {
        Log = log;
        Segments = segments;
        var parts = row?.Parts ?? UserLogParts.None;
        OrdinalSet Marks(long line, UserLogParts part, MarkKind kind) =>
            new(line, (parts & part) == 0 ? null : stored.Blocks(person, log.Id, kind));
        Read = Marks(row?.ReadLine ?? 0, UserLogParts.Read, MarkKind.Read);
        Received = Marks(row?.ReceivedLine ?? 0, UserLogParts.Received, MarkKind.Received);
        Handled = Marks(row?.HandledLine ?? 0, UserLogParts.Handled, MarkKind.Handled);
        Muted = muted ?? Marks(row?.MutedLine ?? 0, UserLogParts.Muted, MarkKind.Muted);
        Skips = (parts & UserLogParts.Skips) == 0 ? new OrdinalSet() : stored.Skips(person, log.Id);
        MutedThrough = row?.MutedThrough ?? 0;
        JournalSeen = row?.JournalSeen ?? log.ChangedAt;
        Gone = row?.Gone ?? 0;
    }

    /// <summary>The log.</summary>
    public AddressLog Log { get; }

    /// <summary>The visible segments, lowest first.</summary>
    public Segment[] Segments { get; }

    /// <summary>The ordinals the user is left out of by name.</summary>
    public OrdinalSet Skips { get; }

    /// <summary>Read by the person.</summary>
    public OrdinalSet Read { get; }

    /// <summary>Acknowledged by any device of the user.</summary>
    public OrdinalSet Received { get; }

    /// <summary>Handled on any device of the user.</summary>
    public OrdinalSet Handled { get; }

    /// <summary>Arrived while muted.</summary>
    public OrdinalSet Muted { get; }

    /// <summary>The dead ordinals that this user has taken, which are alive for this user; null: none.</summary>
    internal List<long>? Mine { get; set; }

    /// <summary>How many ordinals above the read line and what is trimmed are visible and alive, and yet not unread.</summary>
    internal long Gone { get; private set; }

    /// <summary>The change up to which <see cref="Gone"/> speaks.</summary>
    internal long JournalSeen { get; set; }

    /// <summary>Up to where <see cref="Muted"/> is worked out.</summary>
    internal long MutedThrough { get; set; }

    /// <summary>Something is not stored yet that was counted.</summary>
    internal bool IsDirty { get; set; }

    /// <summary>The user has taken an ordinal.</summary>
    internal void Own(long ordinal)
    {
        if (Mine?.Contains(ordinal) != true) (Mine ??= []).Add(ordinal);
    }

    /// <summary>The unread notifications of the log: two look-ups for each segment.</summary>
    public long Unread() => Potential() - Gone + MineUnread();

    /// <summary>What would be unread if nothing above the line were marked, left out or muted.</summary>
    long Potential()
    {
        long sum = 0, floor = Math.Max(Read.Line, Log.Trimmed);
        foreach (var s in Segments)
        {
            long lo = Math.Max(s.Lo, floor), hi = Math.Min(s.Hi, Log.Head);
            if (hi > lo) sum += hi - lo - Log.Dead.Count(lo, hi);
        }
        return sum;
    }

    long MineUnread()
    {
        if (Mine is null) return 0;
        long count = 0;
        foreach (long ordinal in Mine)
        {
            if (IsMineToSee(ordinal) && !IsOut(ordinal)) count++;
        }
        return count;
    }

    /// <summary>The unread taken ordinals of one segment.</summary>
    internal long MineUnreadIn(Segment s) => Mine?.Count(o => o > s.Lo && o <= s.Hi && o > Log.Trimmed && !IsOut(o)) ?? 0;

    bool IsMineToSee(long ordinal) => ordinal > Log.Trimmed && InSegments(ordinal);

    /// <summary>Marked read, left out or muted: not unread whatever else.</summary>
    bool IsOut(long ordinal) => Read.Contains(ordinal) || Skips.Contains(ordinal) || Muted.Contains(ordinal);

    /// <summary>Takes over an unread count that was worked out otherwise.</summary>
    internal void SetUnread(long unread)
    {
        Gone = Potential() + MineUnread() - unread;
        IsDirty = true;
    }

    /// <summary>Counts what is unread by looking at every block: when what is stored is no longer valid.</summary>
    internal void Recount()
    {
        Gone = 0;
        long unread = MineUnread();
        foreach (var s in Segments) unread += CountUnread(s.Lo, s.Hi);
        SetUnread(unread);
        JournalSeen = Log.ChangedAt;
    }

    /// <summary>The unread ordinals of (lo, hi], apart from taken ones.</summary>
    internal long CountUnread(long lo, long hi) =>
        OrdinalSet.CountInNone(Math.Max(lo, Log.Trimmed), Math.Min(hi, Log.Head), Log.Dead, [Read, Skips, Muted]);

    /// <summary>The parts (lo, hi] of a run that the user may see.</summary>
    internal IEnumerable<(long Lo, long Hi)> Within(OrdinalRun run)
    {
        foreach (var s in Segments)
        {
            long lo = Math.Max(Math.Max(s.Lo, Log.Trimmed), run.From - 1), hi = Math.Min(s.Hi, run.To);
            if (hi > lo) yield return (lo, hi);
        }
    }

    /// <summary>The runs of what is alive for this user within a run.</summary>
    internal IEnumerable<OrdinalRun> AliveIn(OrdinalRun run)
    {
        for (long from = run.From; from <= run.To;)
        {
            long dead = Log.Dead.Next(from - 1, run.To);
            while (dead <= run.To && Mine?.Contains(dead) == true) dead = Log.Dead.Next(dead, run.To);
            if (dead > from) yield return new OrdinalRun(from, dead - 1);
            from = dead + 1;
        }
    }

    /// <summary>The runs of (lo, hi] that are in a set of marks, or are not, without what is dead for this user or
    /// leaves the user out. Worked out as far as they are asked for.</summary>
    internal IEnumerable<OrdinalRun> Pieces(OrdinalSet marks, long lo, long hi, bool present)
    {
        var runs = new List<OrdinalRun>();
        marks.Runs(lo, hi, present, runs);
        var rest = new List<OrdinalRun>();
        foreach (var run in runs)
        {
            rest.Clear();
            Skips.Runs(run.From - 1, run.To, present: false, rest);
            foreach (var part in rest)
            {
                foreach (var piece in AliveIn(part)) yield return piece;
            }
        }
    }

    /// <summary>One ordinal was marked, muted or left out that was unread until then, or the other way round.</summary>
    internal void CountOut(long ordinal, int more)
    {
        if (!InSegments(ordinal) || ordinal <= Math.Max(Read.Line, Log.Trimmed) || Log.Dead.Contains(ordinal)) return;
        Gone += more;
        IsDirty = true;
    }

    /// <summary>An ordinal died, came to life again, was taken or given back, for a user in memory.</summary>
    /// <returns>By how much the user's unread total changed.</returns>
    internal int Turned(long ordinal, bool deadBefore, bool deadAfter, bool takenByMe, long position)
    {
        JournalSeen = position;
        bool mineBefore = Mine?.Contains(ordinal) == true;
        if (mineBefore && !takenByMe) Mine!.Remove(ordinal);
        if (!mineBefore && takenByMe) (Mine ??= []).Add(ordinal);
        if (!IsMineToSee(ordinal)) return 0;
        bool isOut = IsOut(ordinal);
        if (isOut && ordinal > Read.Line)
        {
            Gone += (deadAfter ? 0 : 1) - (deadBefore ? 0 : 1);
            IsDirty = true;
        }
        if (isOut) return 0;
        return (!deadAfter || takenByMe ? 1 : 0) - (!deadBefore || mineBefore ? 1 : 0);
    }

    /// <summary>Catches up with what died or came to life while the user was away.</summary>
    internal void Settle(ILedgerStore store, long floor)
    {
        if (JournalSeen >= Log.ChangedAt) return;
        bool nothingOut = !Read.HasBlocks && Skips.IsEmpty && Muted.IsEmpty;
        if (nothingOut && Gone == 0)
        {
            JournalSeen = Log.ChangedAt;
            return;
        }
        int limit = 64 + 64 * Read.BlockCount;
        var changes = JournalSeen < floor ? null : store.ChangesSince(Log.Id, JournalSeen, limit + 1);
        if (changes is null || changes.Count > limit || changes.Any(c => c.Kind == EntryKind.Trimmed))
        {
            Recount();
            return;
        }
        foreach (var change in changes)
        {
            // Counts only what is out: what is unread is told by the rank of the dead.
            if (change.Turn != 0 && change.Ordinal > Math.Max(Read.Line, Log.Trimmed) && InSegments(change.Ordinal)
                && IsOut(change.Ordinal))
            {
                Gone += change.Turn;
            }
        }
        JournalSeen = Log.ChangedAt;
        IsDirty = true;
    }

    /// <summary>Whether the user may see an ordinal, dead or alive.</summary>
    internal bool InSegments(long ordinal)
    {
        foreach (var s in Segments)
        {
            if (ordinal > s.Lo && ordinal <= s.Hi) return true;
        }
        return false;
    }

    /// <summary>Whether the user may see what becomes of an ordinal.</summary>
    internal bool Concerns(long ordinal) => InSegments(ordinal) && !Skips.Contains(ordinal);

    /// <summary>What concerns the user as it is now, to be asked on any thread.</summary>
    internal LogSight SightNow()
    {
        var skipped = new List<OrdinalRun>();
        if (!Skips.IsEmpty) Skips.Runs(Log.Trimmed, Log.Head, present: true, skipped);
        return new LogSight(Segments, skipped);
    }

    /// <summary>The segment a living ordinal lies in, or null when the user may not see it.</summary>
    public Segment? SegmentOf(long ordinal)
    {
        if (ordinal <= Log.Trimmed || ordinal > Log.Head || Skips.Contains(ordinal)
            || (Log.Dead.Contains(ordinal) && Mine?.Contains(ordinal) != true))
        {
            return null;
        }
        foreach (var s in Segments)
        {
            if (ordinal > s.Lo && ordinal <= s.Hi) return s;
        }
        return null;
    }

    /// <summary>The address by which an ordinal reaches the user, alive or not; null when none does.</summary>
    internal string? AddressFor(long ordinal)
    {
        foreach (var s in Segments)
        {
            if (ordinal > s.Lo && ordinal <= s.Hi) return Log.Texts[s.AddressIndex];
        }
        return null;
    }

    /// <summary>Whether the user is told that a notification came.</summary>
    internal bool IsToldOf(long ordinal) => SegmentOf(ordinal) is not null && !Muted.Contains(ordinal);

    /// <summary>Whether the user is told what became of a notification: also of one that has ended and is told of no
    /// more, because a device may have read an inbox meanwhile.</summary>
    internal bool IsToldOfChange(long ordinal) => Concerns(ordinal) && ordinal > Log.Trimmed;

    /// <summary>What the user may see in (from, to], without what is in any of some sets, lowest first.</summary>
    internal IEnumerable<(OrdinalRun Run, string Address)> Visible(long from, long to, params OrdinalSet[] minus)
    {
        foreach (var s in Segments)
        {
            long lo = Math.Max(Math.Max(s.Lo, Log.Trimmed), from), hi = Math.Min(s.Hi, to);
            if (hi <= lo) continue;
            List<OrdinalRun> runs = [new(lo + 1, hi)];
            foreach (var set in (OrdinalSet[])[Skips, .. minus])
            {
                if (set.IsEmpty) continue;
                var left = new List<OrdinalRun>();
                foreach (var run in runs) set.Runs(run.From - 1, run.To, present: false, left);
                runs = left;
            }
            foreach (var run in runs)
            {
                foreach (var alive in AliveIn(run)) yield return (alive, Log.Texts[s.AddressIndex]);
            }
        }
    }

    /// <summary>What the user may see up to an ordinal and has read, lowest first.</summary>
    internal IEnumerable<(OrdinalRun Run, string Address)> ReadOnes(long to)
    {
        foreach (var s in Segments)
        {
            foreach (var run in Pieces(Read, Math.Max(s.Lo, Log.Trimmed), Math.Min(s.Hi, to), present: true))
            {
                yield return (run, Log.Texts[s.AddressIndex]);
            }
        }
    }

    /// <summary>Stores what changed.</summary>
    internal void Save(ILedgerStore store, long person, bool evenUnchanged = false)
    {
        bool changed = IsDirty || evenUnchanged;
        foreach (var (set, kind) in new[] { (Read, MarkKind.Read), (Received, MarkKind.Received), (Handled, MarkKind.Handled),
            (Muted, MarkKind.Muted) })
        {
            changed |= set.LineChanged || set.ChangedBlocks.Count > 0;
            foreach (int block in set.ChangedBlocks)
            {
                var stored = set.StoredBlock(block);
                store.SaveBlock(person, Log.Id, kind, block, stored?.Bits, stored?.Count ?? 0);
            }
            set.ClearChanges();
        }
        if (!changed) return;
        var parts = (Read.HasBlocks ? UserLogParts.Read : 0) | (Received.HasBlocks ? UserLogParts.Received : 0) | (Handled.HasBlocks
            ? UserLogParts.Handled
            : 0)
            | (Muted.HasBlocks ? UserLogParts.Muted : 0) | (Skips.IsEmpty ? 0 : UserLogParts.Skips);
        store.SaveUserLog(person,
            new UserLogRow(Log.Id, Read.Line, Received.Line, Handled.Line, Muted.Line, Gone, JournalSeen, MutedThrough, parts, Segments));
        IsDirty = false;
    }
}
