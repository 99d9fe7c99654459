using Rovett.Core.Policies;

namespace Rovett.Core.Store;

/// <summary>Follows, policies and grants. Part of <see cref="ILedgerStore"/>.</summary>
public interface ITopicStore
{
    /// <summary>The topics a user follows, with the position from which on.</summary>
    IReadOnlyList<KeyValuePair<string, long>> Follows(long person);
    /// <summary>A user follows a topic.</summary>
    void AddFollow(long person, string topic, long since);
    /// <summary>A user stops following a topic.</summary>
    void RemoveFollow(long person, string topic);
    /// <summary>Stores a version of the policies, by the position of its entry.</summary>
    void AddPolicies(int space, PolicyVersion version);
    /// <summary>The newest version at or before a position, or null.</summary>
    PolicyVersion? PoliciesAt(int space, long position);
    /// <summary>The positions of the versions after a position, oldest first.</summary>
    IReadOnlyList<long> PolicyPositions(int space, long after);
    /// <summary>The position of the newest change of policies or of a role's grant; 0 when there was none.</summary>
    long RulesAt(int space);
    /// <summary>Stores a grant.</summary>
    void AddGrant(int space, Grant grant);
    /// <summary>Ends a grant; it is kept for as long as what was sent while it held.</summary>
    void EndGrant(int space, long number, long ended);
    /// <summary>Removes a grant that another takes the place of.</summary>
    void RemoveGrant(int space, long number);
    /// <summary>A grant, ended or not, or null.</summary>
    Grant? FindGrant(int space, long number);
    /// <summary>The grants on a topic.</summary>
    /// <param name="space">The space.</param>
    /// <param name="topic">The topic.</param>
    /// <param name="endedToo">Also those that have ended.</param>
    IReadOnlyList<Grant> GrantsOn(int space, string topic, bool endedToo);
    /// <summary>Grants that have not ended, oldest first.</summary>
    /// <param name="space">The space.</param>
    /// <param name="person">Of this user; null: anybody's.</param>
    /// <param name="role">Of this role; null: any.</param>
    /// <param name="topic">On this topic; null: any.</param>
    /// <param name="after">With higher numbers than this.</param>
    /// <param name="limit">The most.</param>
    IReadOnlyList<Grant> Grants(int space, long? person, string? role, string? topic, long after, int limit);
}
