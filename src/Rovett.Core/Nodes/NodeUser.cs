using Rovett.Core.Delivery;

namespace Rovett.Core.Nodes;

/// <summary>A connected user where its sessions are held: changed only by what a ledger says, in its order.</summary>
sealed class NodeUser
{
    /// <summary>The number of the user's own changes.</summary>
    public long Rev { get; set; }

    /// <summary>The unread total.</summary>
    public long Unread { get; set; }

    /// <summary>The live sessions.</summary>
    public List<ISessionPort> Sessions { get; } = new(1);
}
