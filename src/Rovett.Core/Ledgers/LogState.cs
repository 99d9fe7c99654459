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

    /// <summary>The members who have muted something and whom the next notification reaches.</summary>
    public readonly HashSet<Member> WithMutes = [];

    /// <summary>The subscribed sessions whose users have muted something.</summary>
    public readonly HashSet<SubscribedLog> SubscribersWithMutes = [];

    /// <summary>The connected users who see something of it.</summary>
    public readonly Roster<Member> Members = new();

    /// <summary>The sessions that see something of it only because they have subscribed to a topic.</summary>
    public readonly Roster<SubscribedLog> Subscribers = new();

    /// <summary>Of the dead ordinals, those that somebody has taken: they may come to life again. Null until first needed.</summary>
    public HashSet<long>? Taken;
}
