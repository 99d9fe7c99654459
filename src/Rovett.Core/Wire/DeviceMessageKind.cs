namespace Rovett.Core.Wire;

/// <summary>The kinds of message from devices.</summary>
public enum DeviceMessageKind
{
    /// <summary>Nothing that could be read.</summary>
    Unknown,
    /// <summary>Acknowledges notifications.</summary>
    Ack,
    /// <summary>The person saw notifications.</summary>
    MarkRead,
    /// <summary>The person wants to see them as new again.</summary>
    MarkUnread,
    /// <summary>Sets the subject its user is looking at.</summary>
    Attend,
    /// <summary>The person takes a notification over.</summary>
    Take,
    /// <summary>The person gives it back.</summary>
    Release,
    /// <summary>Presents a newer token.</summary>
    Renew,
    /// <summary>Subscribes to a topic while connected.</summary>
    Subscribe,
    /// <summary>Ends a subscription.</summary>
    Unsubscribe,
    /// <summary>The person follows a topic durably.</summary>
    Follow,
    /// <summary>The person stops following it.</summary>
    Unfollow,
    /// <summary>Watches presence on a channel.</summary>
    Watch,
    /// <summary>Stops watching presence.</summary>
    Unwatch,
    /// <summary>The person says something to the others on a topic.</summary>
    Say,
}
