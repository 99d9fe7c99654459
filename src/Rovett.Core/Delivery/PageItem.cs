using Rovett.Core.Wire;

namespace Rovett.Core.Delivery;

/// <summary>An entry found in the log for a session that is behind. <see cref="Ordinal"/> is that of the notification
/// it is or speaks of.</summary>
public readonly record struct PageItem(OutgoingEntry Entry, string Address, long Log, long Ordinal)
{
    /// <summary>It is of a topic that the session has only subscribed to.</summary>
    public bool OnlySubscribed { get; init; }

    /// <summary>It as it goes out.</summary>
    /// <param name="attempt">1, and more each time it is written to the same device again.</param>
    public EntryRun Run(int attempt) => EntryRun.Of(Entry.WireFor(Address, attempt, counted: !OnlySubscribed), Log, Ordinal);
}
