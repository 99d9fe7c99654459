using Rovett.Core.Notifications;

namespace Rovett.Core.Store;

/// <summary>What became of something that is done when a deadline is missed.</summary>
public enum OtherwiseState
{
    /// <summary>The deadline was not missed, or not yet.</summary>
    Idle = 0,
    /// <summary>It waits to be delivered.</summary>
    Waiting = 1,
    /// <summary>It is done.</summary>
    Done = 2,
    /// <summary>It was not needed any more: the state was reached, or the notification ended.</summary>
    Ended = 3,
    /// <summary>It could not be done, and was set aside.</summary>
    SetAside = 4,
}

/// <summary>Something that is done when a deadline is missed.</summary>
/// <param name="Item">Its number within the deadline.</param>
/// <param name="What">What is done.</param>
/// <param name="State">What became of it.</param>
/// <param name="Time">When it came to that.</param>
/// <param name="Sent">The id of the notification that was sent.</param>
public sealed record OtherwiseRow(int Item, Otherwise What, OtherwiseState State = OtherwiseState.Idle, StoredTime? Time = null,
    NotificationId? Sent = null);
