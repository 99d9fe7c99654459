using Rovett.Core.Store;

namespace Rovett.Core.Visibility;

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
