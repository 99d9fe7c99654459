namespace Rovett.Core.Wire;

/// <summary>What a device can ask for.</summary>
public enum DeviceMessageKind
{
    /// <summary>Nothing that could be read.</summary>
    Unknown,
    /// <summary>It has notifications.</summary>
    Ack,
    /// <summary>The person saw notifications.</summary>
    MarkRead,
    /// <summary>The person wants to see them as new again.</summary>
    MarkUnread,
    /// <summary>It says what its user is looking at.</summary>
    Attend,
    /// <summary>The person takes a notification over.</summary>
    Take,
    /// <summary>The person gives it back.</summary>
    Release,
    /// <summary>It shows a newer token.</summary>
    Renew,
    /// <summary>It takes a topic's channel for as long as it is connected.</summary>
    Subscribe,
    /// <summary>It gives a topic's channel up.</summary>
    Unsubscribe,
    /// <summary>The person follows a topic durably.</summary>
    Follow,
    /// <summary>The person stops following it.</summary>
    Unfollow,
    /// <summary>It looks at who is on a channel.</summary>
    Watch,
    /// <summary>It stops looking.</summary>
    Unwatch,
    /// <summary>The person says something to the others on a topic.</summary>
    Say,
}
