using Rovett.Core.Wire;

namespace Rovett.Core.Delivery;

/// <summary>An entry found in the log for a session that is behind. <see cref="Ordinal"/> is that of the notification
/// it is or speaks of.</summary>
public readonly record struct PageItem(OutgoingEntry Entry, string Address, long Log, long Ordinal)
{
    /// <summary>Reaches the session only by a subscription to a topic.</summary>
    public bool OnlySubscribed { get; init; }

    /// <summary>The message to write.</summary>
    /// <param name="attempt">1, and more each time it is written to the same device again.</param>
    public EntryRun Run(int attempt) => EntryRun.Of(Entry.WireFor(Address, attempt, counted: !OnlySubscribed), Log, Ordinal);
}
