using Rovett.Core.Delivery;

namespace Rovett.Core.Nodes;

/// <summary>A user whom a log reaches, by one of its addresses. Found and removed in one step.</summary>
sealed class NodeMember(NodeUser user, int addressIndex)
{
    int index;

    /// <summary>The user.</summary>
    public NodeUser User => user;

    /// <summary>The number of the address.</summary>
    public int AddressIndex => addressIndex;

    /// <summary>Puts it into the list of a log.</summary>
    public void Join(NodeLog log)
    {
        index = log.Members.Count;
        log.Members.Add(this);
    }

    /// <summary>Takes it out.</summary>
    public void Leave(NodeLog log)
    {
        var last = log.Members[^1];
        log.Members[index] = last;
        last.index = index;
        log.Members.RemoveAt(log.Members.Count - 1);
    }
}

/// <summary>A session that a log reaches because it has subscribed to a topic. Nothing of it is counted.</summary>
sealed class NodeWatch(NodeUser user, ISessionPort session, int addressIndex)
{
    int index;

    /// <summary>The session's user.</summary>
    public NodeUser User => user;

    /// <summary>The session.</summary>
    public ISessionPort Session => session;

    /// <summary>The number of the address.</summary>
    public int AddressIndex => addressIndex;

    /// <summary>Puts it into the list of a log.</summary>
    public void Join(NodeLog log)
    {
        index = log.Watches.Count;
        log.Watches.Add(this);
    }

    /// <summary>Takes it out.</summary>
    public void Leave(NodeLog log)
    {
        var last = log.Watches[^1];
        log.Watches[index] = last;
        last.index = index;
        log.Watches.RemoveAt(log.Watches.Count - 1);
    }
}
