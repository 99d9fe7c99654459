using Rovett.Core.Store;
using Rovett.Core.Wire;

namespace Rovett.Core.Delivery;

/// <summary>An entry found for a session that is behind: the one in memory, or its text as it was read. Neither when it is gone.</summary>
public record struct FoundEntry(long Position, string Address, long Log, long Ordinal)
{
    /// <summary>It, when it was in memory.</summary>
    public OutgoingEntry? Known { get; set; }
    /// <summary>It, when it was read.</summary>
    public EntryText? Text { get; set; }
}
