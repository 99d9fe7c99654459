using Rovett.Core.Delivery;
using Rovett.Core.Presence;

namespace Rovett.Core.Ledgers;

/// <summary>A live session of a user, with what it said of itself.</summary>
sealed class SessionPlace(UserState user, string device) : IPresenceViewer
{
    LateMap<long> topics;
    LateMap<Shown> watched;

    public readonly string Device = device;
    /// <summary>Its user.</summary>
    public UserState User = user;
    /// <summary>The session; set before anything is offered to it.</summary>
    public ISessionPort Session { get; set; } = null!;
    /// <summary>The topics it has subscribed to, each with the position from which on.</summary>
    public ref LateMap<long> Topics => ref topics;
    /// <summary>The addresses whose presence it looks at.</summary>
    public ref LateMap<Shown> Watched => ref watched;
    /// <summary>The logs it sees something of by its subscriptions alone.</summary>
    public IReadOnlyList<SubscribedLog> SubscribedLogs => subscribedLogs ?? (IReadOnlyList<SubscribedLog>)[];

    List<SubscribedLog>? subscribedLogs; // null: none

    /// <summary>Adds to <see cref="SubscribedLogs"/>.</summary>
    public void AddSubscribed(SubscribedLog log) => (subscribedLogs ??= []).Add(log);

    /// <summary>Clears <see cref="SubscribedLogs"/>.</summary>
    public void ClearSubscribed() => subscribedLogs = null;
    /// <summary>It was asked for acknowledgements and says nothing.</summary>
    public bool Silent;
    /// <summary>The subject its user is looking at, or null.</summary>
    public string? Attends;
}
