using System.Text.Json;
using Rovett.Core.Policies;
using Rovett.Core.Store;

namespace Rovett.Core.Ledgers;

/// <summary>Rights on the topics of one space: its policies, in the version in force, and its grants. Owned
/// by the ledger's thread.</summary>
sealed class TopicRules(SpaceState space, ILedgerStore store)
{
    const int MaxKnownTopics = 10_000, MaxKnownVersions = 16;

    readonly Dictionary<string, List<Grant>> grantsOn = [];
    readonly Dictionary<long, PolicySet> versions = [];
    (long Position, PolicySet Set)? present;
    long? rulesAt;

    /// <summary>The position of the newest change of policies or of a role's grant.</summary>
    public long RulesAt
    {
        get => rulesAt ??= store.RulesAt(space.Id);
        set => rulesAt = value;
    }

    /// <summary>The policies in force, and the position of the entry that loaded them; 0 when none were.</summary>
    public (long Position, PolicySet Set) Current => present ??= At(space.Head);

    /// <summary>Puts other policies in force.</summary>
    public void Load(long position, PolicySet set)
    {
        space.Stirred++;
        present = (position, set);
        RulesAt = position;
    }

    (long Position, PolicySet Set) At(long position)
    {
        if (store.PoliciesAt(space.Id, position) is not { } version) return (0, PolicySet.None);
        if (!versions.TryGetValue(version.Position, out var set))
        {
            if (versions.Count >= MaxKnownVersions) versions.Clear();
            using var document = JsonDocument.Parse(version.Document);
            versions[version.Position] = set = PolicyReader.Read(document.RootElement, []);
        }
        return (version.Position, set);
    }

    /// <summary>The grants on a topic that have not ended.</summary>
    public IReadOnlyList<Grant> GrantsOn(string topic)
    {
        if (grantsOn.TryGetValue(topic, out var known)) return known;
        if (grantsOn.Count >= MaxKnownTopics) grantsOn.Clear();
        return grantsOn[topic] = [.. store.GrantsOn(space.Id, topic, endedToo: false)];
    }

    /// <summary>The grants on a topic changed.</summary>
    public void Forget(string topic)
    {
        grantsOn.Remove(topic);
        space.Stirred++;
    }

    /// <summary>How many topics' grants are in memory.</summary>
    public int Known => grantsOn.Count;

    /// <summary>Drops what can be read again.</summary>
    public void ForgetKnown() => grantsOn.Clear();

    /// <summary>Any grants may have changed.</summary>
    public void ForgetAll()
    {
        grantsOn.Clear();
        space.Stirred++;
    }

    /// <summary>Decides one right of a user.</summary>
    /// <param name="user">The user.</param>
    /// <param name="topic">The topic.</param>
    /// <param name="right">The right.</param>
    /// <param name="roles">The roles the user is about to hold; null: those held.</param>
    /// <param name="steps">Filled with the steps of the decision; may be null.</param>
    public Decision Decide(UserState user, string topic, TopicRights right, IReadOnlySet<string>? roles = null,
        List<DecisionStep>? steps = null)
    {
        var now = space.Due;
        return Decide(user, topic, right, roles, g => g.Until is null || g.Until > now, steps);
    }

    /// <summary>Whether a right in use continues: an expired grant ends with its entry, at the same point for
    /// users who are connected and users who are not.</summary>
    public bool GoesOn(UserState user, string topic, TopicRights right, IReadOnlySet<string>? roles = null) =>
        Decide(user, topic, right, roles, static _ => true, null).Allowed;

    /// <summary>Decides a right that is in use.</summary>
    public Decision InUse(UserState user, string topic, TopicRights right) => Decide(user, topic, right, null, static _ => true, null);

    Decision Decide(UserState user, string topic, TopicRights right, IReadOnlySet<string>? roles, Func<Grant, bool> holds,
        List<DecisionStep>? steps)
    {
        var facts = new Facts(user, roles);
        var grants = GrantsOn(topic).Where(g => holds(g) && Concerns(g, user, facts));
        if (steps is not null) grants = grants.Select(g => g.Until is { } until ? g with { Until = space.Shown(until) } : g);
        return Current.Set.Decide(facts, topic, right, grants, steps);
    }

    static bool Concerns(Grant grant, UserState user, Facts facts) =>
        grant.Role.Length > 0 ? facts.HoldsRole(grant.Role) : grant.Person == user.PersonId;

    /// <summary>The position since which a user has had a right without interruption, looking back no further than a given position.
    /// Notifications before it are not visible to the user. Times of which nothing is stored count as an interruption.</summary>
    public long HeldSince(UserState user, string topic, TopicRights right, long after)
    {
        var grants = store.GrantsOn(space.Id, topic, endedToo: true);
        var changes = new SortedSet<long>(store.PolicyPositions(space.Id, after));
        foreach (var grant in grants)
        {
            changes.Add(grant.Since);
            changes.Add(grant.Ended ?? 0);
        }
        foreach (var membership in user.Memberships)
        {
            changes.Add(membership.Gained);
            changes.Add(membership.Until ?? 0);
        }
        changes.Add(user.Row.ClaimsAt);
        foreach (long position in changes.Reverse())
        {
            if (position <= after) break;
            long before = position - 1;
            var facts = new Facts(user, user.Memberships.Where(m => m.Gained <= before && !(m.Until <= before)).Select(m => m.Address)
                .ToHashSet(), withClaims: before >= user.Row.ClaimsAt);
            if (!At(before).Set.Decide(facts, topic, right,
                grants.Where(g => g.Since <= before && !(g.Ended <= before) && Concerns(g, user, facts))).Allowed)
            {
                return position;
            }
        }
        return after;
    }

    /// <summary>The topics that a user follows and may.</summary>
    public IEnumerable<string> Followed(UserState user, IReadOnlySet<string>? roles = null) =>
        user.Follows.Keys.Where(topic => GoesOn(user, topic, TopicRights.Follow, roles));

    /// <summary>Brings a user who was not looked at since policies or roles' grants changed up to them, one change after
    /// the other: what of the user they look at has not changed meanwhile, so it comes out as if it had been done at once.</summary>
    public void Settle(UserState user)
    {
        long seen = user.Row.RulesSeen!.Value, upTo = RulesAt;
        user.Row = user.Row with { RulesSeen = upTo };
        var grants = new Dictionary<string, IReadOnlyList<Grant>>();
        var changes = new SortedSet<long>(store.PolicyPositions(space.Id, seen));
        foreach (var topic in user.Follows.Keys)
        {
            grants[topic] = store.GrantsOn(space.Id, topic, endedToo: true);
            changes.UnionWith(grants[topic].Where(g => g.Role.Length > 0).SelectMany(g => new[] { g.Number, g.Ended ?? 0 })
                .Where(p => p > seen && p <= upTo));
        }
        var facts = new Facts(user, null);
        foreach (long position in changes)
        {
            var policies = At(position).Set;
            var wanted = user.Follows.Where(f => f.Value <= position && policies.Decide(facts, f.Key, TopicRights.Follow,
                grants[f.Key].Where(g => g.Number <= position && !(g.Ended <= position) && Concerns(g, user, facts))).Allowed)
                .Select(f => "topic:" + f.Key).ToHashSet();
            var held = user.Held.Where(a => a.StartsWith("topic:", StringComparison.Ordinal)).ToList();
            Roles.Move(store, space, user, [.. held.Where(a => !wanted.Contains(a))], [.. wanted.Where(a => !held.Contains(a))], position);
        }
        store.SavePerson(user.Row);
    }

    /// <summary>The facts about a user that decisions depend on.</summary>
    sealed class Facts(UserState user, IReadOnlySet<string>? roles, bool withClaims = true) : IUserFacts
    {
        Dictionary<string, IReadOnlyList<string>>? claims;

        public string User => user.Id.Value;

        public bool HoldsRole(string role) => roles is null ? user.Holds("role:" + role) : roles.Contains("role:" + role);

        public IReadOnlyList<string> Claim(string path) =>
            (claims ??= ClaimSet.Read(withClaims ? user.Row.Claims : "")).GetValueOrDefault(path) ?? [];
    }
}
