using Rovett.Core.Nodes;
using Rovett.Core.Visibility;

namespace Rovett.Core.Ledgers;

/// <summary>A log in memory, with the connected people who see something of it. Owned by the ledger's thread.</summary>
sealed class LogState(AddressLog log, string key)
{
    /// <summary>The log.</summary>
    public readonly AddressLog Log = log;

    /// <summary>Its key in the store.</summary>
    public string Key = key;

    /// <summary>It as the node knows it.</summary>
    public readonly NodeLog Node = new(log.Id, log.Texts);

    /// <summary>Of the members whom what comes next reaches, those whose users have muted something.</summary>
    public readonly HashSet<Member> Special = [];

    /// <summary>The connected users who see something of it.</summary>
    public readonly List<Member> Members = [];

    /// <summary>The sessions that see something of it only because they have subscribed to a topic.</summary>
    public readonly List<SubscribedLog> Subscribers = [];

    /// <summary>Of the dead ordinals, those that somebody has taken: they may come to life again. Null until first needed.</summary>
    public HashSet<long>? Taken;
}
