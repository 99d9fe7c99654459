using Rovett.Core.Addresses;
using Rovett.Core.Marks;
using Rovett.Core.Store;

namespace Rovett.Core.Visibility;

/// <summary>Something that happened in a log: a notification came (<paramref name="Change"/> false), or one of its
/// notifications changed.</summary>
readonly record struct LogEvent(long Position, long Ordinal, bool Change);

/// <summary>The notifications of one audience or of one person, numbered 1, 2, 3 … Owned by the ledger; nothing else
/// changes it.</summary>
public sealed class AddressLog(long id, Audience? audience, Address[] addresses, IBlockSource? dead = null)
{
    const int RecentSize = 64;
    LogEvent[] recent = [];
    long recentCount, recentFrom;

    /// <summary>The store's number of the log.</summary>
    public long Id { get; } = id;

    /// <summary>The audience, or null for a person's own log.</summary>
    public Audience? Audience { get; } = audience;

    /// <summary>The addresses by which it reaches people, in the fixed order; one for a person's own log.</summary>
    public IReadOnlyList<Address> Addresses { get; } = addresses;

    /// <summary>The same, as they stand in messages.</summary>
    public string[] Texts { get; private init; } = [.. addresses.Select(a => a.ToString())];

    /// <summary>The newest ordinal; 0 when the log is empty.</summary>
    public long Head { get; private set; }

    /// <summary>The position of the newest notification; 0 when the log is empty.</summary>
    public long HeadPosition { get; private set; }

    /// <summary>Ordinals up to this one are no longer stored.</summary>
    public long Trimmed { get; private set; }

    /// <summary>The newest living notification, or change of one, that retention took; default when there is none.</summary>
    public LostNotification Lost { get; private set; }

    /// <summary>The position of the newest change of one of its notifications; 0 when there was none.</summary>
    public long ChangedAt { get; private set; }

    /// <summary>Ordinals that nobody may see now: withdrawn, replaced, expired, or taken by somebody.</summary>
    public DeadSet Dead { get; } = new(dead);

    /// <summary>A log as a plan describes it, for readers: nothing is added to it.</summary>
    internal static AddressLog Planned(PlannedLog plan, long trimmed, IBlockSource dead)
    {
        var log = new AddressLog(plan.Log, null, [], dead) { Texts = [.. plan.Addresses] };
        foreach (var s in plan.Segments) log.Head = Math.Max(log.Head, s.Hi);
        log.Trimmed = trimmed;
        return log;
    }

    /// <summary>Brings back what is stored.</summary>
    internal void Load(LogRow row)
    {
        (Head, HeadPosition, Trimmed, Lost, ChangedAt) = (row.Head, row.HeadPosition, row.Trimmed, row.Lost, row.ChangedAt);
        recentFrom = Math.Max(HeadPosition, ChangedAt);
    }

    /// <summary>Draws the next ordinal for the notification at <paramref name="position"/>.</summary>
    public long Append(long position)
    {
        Head++;
        HeadPosition = position;
        Note(new LogEvent(position, Head, false));
        return Head;
    }

    /// <summary>One of its notifications changed, by the entry at <paramref name="position"/>.</summary>
    public void Change(long position, long ordinal)
    {
        ChangedAt = position;
        Note(new LogEvent(position, ordinal, true));
    }

    /// <summary>Retention took everything up to an ordinal.</summary>
    internal void Trim(long ordinal, LostNotification? lost)
    {
        Trimmed = Math.Max(Trimmed, ordinal);
        if (lost is { } newest && newest.Position > Lost.Position) Lost = newest with { Ordinal = Math.Max(newest.Ordinal, Lost.Ordinal) };
        Dead.Trim(Trimmed);
    }

    internal LogRow ToRow(string key) => new(Id, key, Head, HeadPosition, Trimmed, Lost, ChangedAt);

    void Note(LogEvent happened)
    {
        // Most logs are short, so it begins small.
        if (recentCount >= recent.Length && recent.Length < RecentSize) Array.Resize(ref recent, Math.Max(2, 2 * recent.Length));
        recent[recentCount++ % RecentSize] = happened;
    }

    /// <summary>The lowest ordinal whose coming memory still has; everything from there to the head it has as well. One
    /// after the head when it has none.</summary>
    internal long RecentFrom
    {
        get
        {
            for (long i = recentCount - Math.Min(recentCount, RecentSize); i < recentCount; i++)
            {
                if (recent[i % RecentSize] is { Change: false } came) return came.Ordinal;
            }
            return Head + 1;
        }
    }

    /// <summary>What happened after <paramref name="position"/>, or false when memory does not reach back so far.</summary>
    internal bool TryRecent(long position, List<(AddressLog Log, LogEvent Event)> into)
    {
        if (Math.Max(HeadPosition, ChangedAt) <= position) return true;
        if (recentCount == 0) return false;
        // What is not kept lies at or before this position.
        long before = recentCount <= RecentSize ? recentFrom : recent[recentCount % RecentSize].Position - 1;
        if (before > position) return false;
        Recent(into, position);
        return true;
    }

    /// <summary>What memory has of what happened, after a position.</summary>
    internal void Recent(List<(AddressLog Log, LogEvent Event)> into, long after = 0)
    {
        for (long i = recentCount - Math.Min(recentCount, RecentSize); i < recentCount; i++)
        {
            var happened = recent[i % RecentSize];
            if (happened.Position > after) into.Add((this, happened));
        }
    }
}
