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
    public IReadOnlyCollection<Member> WithMutes => withMutes ?? (IReadOnlyCollection<Member>)[];

    /// <summary>The subscribed sessions whose users have muted something.</summary>
    public IReadOnlyCollection<SubscribedLog> SubscribersWithMutes => subscribersWithMutes ?? (IReadOnlyCollection<SubscribedLog>)[];

    HashSet<Member>? withMutes; // null until there is one: most logs have none
    HashSet<SubscribedLog>? subscribersWithMutes;

    /// <summary>Adds to <see cref="WithMutes"/>.</summary>
    public void AddWithMutes(Member member) => (withMutes ??= []).Add(member);

    /// <summary>Takes out of <see cref="WithMutes"/>.</summary>
    public void RemoveWithMutes(Member member) => withMutes?.Remove(member);

    /// <summary>Adds to <see cref="SubscribersWithMutes"/>.</summary>
    public void AddWithMutes(SubscribedLog subscriber) => (subscribersWithMutes ??= []).Add(subscriber);

    /// <summary>Takes out of <see cref="SubscribersWithMutes"/>.</summary>
    public void RemoveWithMutes(SubscribedLog subscriber) => subscribersWithMutes?.Remove(subscriber);

    /// <summary>The connected users who see something of it.</summary>
    public Roster<Member> Members;

    /// <summary>The sessions that see something of it only because they have subscribed to a topic.</summary>
    public Roster<SubscribedLog> Subscribers;

    /// <summary>Of the dead ordinals, those that somebody has taken: they may come to life again. Null until first needed.</summary>
    public HashSet<long>? Taken;
}
