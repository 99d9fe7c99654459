using Rovett.Core.Notifications;

namespace Rovett.Core.Store;

/// <summary>A stored deadline. <see cref="Ended"/>: when it was met or missed.</summary>
public sealed record DeadlineRow(long Position, int Number, DeadlineTerms Terms, StoredTime At, DeadlineState State, StoredTime? Ended)
{
    /// <summary>What it does when it is missed, and what became of that.</summary>
    public IReadOnlyList<OtherwiseRow> Otherwise { get; init; } = [];
}

/// <summary>The states of a deadline.</summary>
public enum DeadlineState
{
    /// <summary>Not decided yet.</summary>
    Pending = 0,
    /// <summary>The state was reached in time.</summary>
    Met = 1,
    /// <summary>The state was not reached in time.</summary>
    Missed = 2,
    /// <summary>The notification was withdrawn, replaced or expired before.</summary>
    Void = 3,
}
