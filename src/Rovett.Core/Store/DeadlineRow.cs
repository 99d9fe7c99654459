using Rovett.Core.Notifications;

namespace Rovett.Core.Store;

/// <summary>A stored deadline. <see cref="Ended"/>: when it was met or missed.</summary>
public sealed record DeadlineRow(long Position, int Number, DeadlineTerms Terms, StoredTime At, DeadlineState State, StoredTime? Ended);

/// <summary>What has become of a deadline.</summary>
public enum DeadlineState
{
    /// <summary>Its time is not up, or it is not looked at yet.</summary>
    Pending = 0,
    /// <summary>What it asks for came about in time.</summary>
    Met = 1,
    /// <summary>It did not.</summary>
    Missed = 2,
    /// <summary>The notification was withdrawn, replaced or expired before.</summary>
    Void = 3,
}
