using Rovett.Core.Store;
using Rovett.Core.Wire;

namespace Rovett.Core.Delivery;

/// <summary>What a session may be sent, as of one moment.</summary>
/// <param name="Logs">The logs it sees something of.</param>
/// <param name="On">The addresses that it is on.</param>
/// <param name="Watched">The addresses whose presence it looks at; true: only how many there are.</param>
public sealed record Sight(IReadOnlyDictionary<long, LogSight> Logs, IReadOnlySet<string> On, IReadOnlyDictionary<string, bool> Watched)
{
    /// <summary>Whether an ordinal of a log is visible, or was while it lived.</summary>
    public bool Allows(long log, long ordinal) => Logs.TryGetValue(log, out var sight) && sight.Concerns(ordinal);

    /// <summary>Whether a message that shows something of a channel may be sent.</summary>
    public bool MayShow(ChannelContent shown) => shown.View == ChannelView.Content ? On.Contains(shown.Address)
        : Watched.TryGetValue(shown.Address, out bool countOnly) && (shown.View == ChannelView.Count || !countOnly);
}

/// <summary>What a session sees of a log.</summary>
/// <param name="Segments">The visible segments.</param>
/// <param name="Skipped">Ordinals in them that the user is left out of by name.</param>
public sealed record LogSight(IReadOnlyList<Segment> Segments, IReadOnlyList<OrdinalRun> Skipped)
{
    /// <summary>Whether an ordinal is among them.</summary>
    public bool Concerns(long ordinal)
    {
        bool isIn = false;
        foreach (var s in Segments) isIn |= ordinal > s.Lo && ordinal <= s.Hi;
        if (!isIn) return false;
        foreach (var r in Skipped)
        {
            if (ordinal >= r.From && ordinal <= r.To) return false;
        }
        return true;
    }
}
