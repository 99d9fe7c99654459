namespace Rovett.Core.Policies;

/// <summary>Rights on a topic.</summary>
[Flags]
public enum TopicRights
{
    /// <summary>Nothing.</summary>
    None = 0,
    /// <summary>To take its channel while connected.</summary>
    Subscribe = 1,
    /// <summary>To follow it durably, absence included.</summary>
    Follow = 2,
    /// <summary>To say something to the others on it.</summary>
    Say = 4,
    /// <summary>To see who is on it.</summary>
    Presence = 8,
}

/// <summary>The words for rights.</summary>
public static class RightNames
{
    /// <summary>Each right with its word, in the order in which they are written.</summary>
    public static readonly IReadOnlyList<(TopicRights Right, string Name)> All =
        [(TopicRights.Subscribe, "subscribe"), (TopicRights.Follow, "follow"), (TopicRights.Say, "say"),
        (TopicRights.Presence, "presence")];

    /// <summary>The words of some rights.</summary>
    public static IEnumerable<string> Of(TopicRights rights) => All.Where(r => (rights & r.Right) != 0).Select(r => r.Name);

    /// <summary>The right of a word, or none.</summary>
    public static TopicRights Parse(string name) => All.FirstOrDefault(r => r.Name == name).Right;
}

/// <summary>One condition on the token's contents.</summary>
/// <param name="Path">A claim's name, or a JSON Pointer (RFC 6901) into the claims.</param>
/// <param name="Values">It, or one of its items, must be one of these; with variables.</param>
public sealed record ClaimCondition(string Path, IReadOnlyList<string> Values);

/// <summary>The conditions of a policy: each part that is not empty must match.</summary>
public sealed record PolicyConditions
{
    /// <summary>Applies to every user with a valid credential.</summary>
    public bool Anyone { get; init; }
    /// <summary>The user holds one of these roles; with variables.</summary>
    public IReadOnlyList<string> Roles { get; init; } = [];
    /// <summary>The user is one of these; with variables.</summary>
    public IReadOnlyList<string> Users { get; init; } = [];
    /// <summary>The token must match each of these.</summary>
    public IReadOnlyList<ClaimCondition> Claims { get; init; } = [];
    /// <summary>Each named variable has one of these values; with variables.</summary>
    public IReadOnlyList<KeyValuePair<string, IReadOnlyList<string>>> Variables { get; init; } = [];
}

/// <summary>A policy: rights of some users on some topics.</summary>
/// <param name="Name">Its name in explanations.</param>
/// <param name="Topic">The topics it is about.</param>
/// <param name="Rights">The rights it allows or forbids.</param>
/// <param name="Forbids">It forbids the rights, whatever else allows them.</param>
/// <param name="When">Its conditions.</param>
/// <param name="Ask">The decider that is asked first; null: none.</param>
/// <param name="CountOnly">Presence shows only the number of people.</param>
public sealed record Policy(string Name, TopicPattern Topic, TopicRights Rights, bool Forbids, PolicyConditions When, string? Ask,
    bool CountOnly = false);

/// <summary>A permission given to one user or role on one topic.</summary>
/// <param name="Number">The position of the entry that gave it: its id.</param>
/// <param name="Person">The store's number of the user; 0: it is a role's.</param>
/// <param name="Role">The role; empty: it is a user's.</param>
/// <param name="Topic">The topic.</param>
/// <param name="Rights">The rights granted.</param>
/// <param name="Until">When it expires; null: never.</param>
/// <param name="Ended">The position of the entry that ended it; null: it has not ended.</param>
/// <param name="Policy">The policy by which the backend was asked and allowed it; empty: it was given by the API.</param>
/// <param name="Profile">The person's profile for others, as JSON; empty: none.</param>
public sealed record Grant(long Number, long Person, string Role, string Topic, TopicRights Rights, StoredTime? Until, long? Ended,
    string Policy, string Profile)
{
    /// <summary>The position since which it is in force: an answer of a decider that replaced another counts from that one on.</summary>
    public long Since { get; init; } = Number;
}
