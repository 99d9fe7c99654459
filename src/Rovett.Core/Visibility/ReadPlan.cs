using Rovett.Core.Marks;
using Rovett.Core.Store;

namespace Rovett.Core.Visibility;

/// <summary>Which ordinals of which logs a session or an inbox may be given: made by the ledger, read by others.</summary>
public sealed record ReadPlan(long Person, int Space, int Version, IReadOnlyList<PlannedLog> Logs, Position Head, TotalsBy Totals,
    long RolesChangedAt, ChannelList Channels);

/// <summary>One log of a plan.</summary>
public sealed record PlannedLog(long Log, IReadOnlyList<string> Addresses, IReadOnlyList<Segment> Segments, long Trimmed,
    LostNotification Lost)
{
    /// <summary>Set for a log that the session has only subscribed to: what of it the person has muted. Nothing of the
    /// log is counted.</summary>
    public OrdinalSet? SubscribedMuted { get; init; }

    /// <summary>Whether retention took something after a position that was this user's to see.</summary>
    public bool LostAfter(long position) => Lost.Position > position && Segments.Any(s => Lost.Ordinal > s.Lo);
}
