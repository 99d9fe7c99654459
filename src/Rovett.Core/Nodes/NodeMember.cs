using Rovett.Core.Delivery;

namespace Rovett.Core.Nodes;

/// <summary>A user whom a log reaches.</summary>
/// <param name="user">The user.</param>
/// <param name="addressIndex">The number of the log's address that reaches the user.</param>
sealed class NodeMember(NodeUser user, int addressIndex) : RosterItem
{
    /// <summary>The user.</summary>
    public NodeUser User => user;

    /// <summary>The number of the address.</summary>
    public int AddressIndex => addressIndex;
}

/// <summary>A session that a log reaches because it has subscribed to a topic. Nothing of it is counted.</summary>
/// <param name="user">The session's user.</param>
/// <param name="session">The session.</param>
/// <param name="addressIndex">The number of the log's address that reaches it.</param>
sealed class NodeWatch(NodeUser user, ISessionPort session, int addressIndex) : RosterItem
{
    /// <summary>The session's user.</summary>
    public NodeUser User => user;

    /// <summary>The session.</summary>
    public ISessionPort Session => session;

    /// <summary>The number of the address.</summary>
    public int AddressIndex => addressIndex;
}
