namespace Rovett.Core.Policies;

/// <summary>What somebody may do on a topic.</summary>
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

/// <summary>When a policy holds for somebody: each part that is not empty must.</summary>
public sealed record PolicyConditions
{
    /// <summary>It holds for every user whose credential holds.</summary>
    public bool Anyone { get; init; }
    /// <summary>The user holds one of these roles; with variables.</summary>
    public IReadOnlyList<string> Roles { get; init; } = [];
    /// <summary>The user is one of these; with variables.</summary>
    public IReadOnlyList<string> Users { get; init; } = [];
    /// <summary>Each of these holds of the token.</summary>
    public IReadOnlyList<ClaimCondition> Claims { get; init; } = [];
    /// <summary>Each named variable has one of these values; with variables.</summary>
    public IReadOnlyList<KeyValuePair<string, IReadOnlyList<string>>> Variables { get; init; } = [];
}

/// <summary>Who may do what on which topics.</summary>
/// <param name="Name">What it is called in explanations.</param>
/// <param name="Topic">Which topics.</param>
/// <param name="Rights">What it lets do, or forbids.</param>
/// <param name="Forbids">It forbids: nothing else gives what it takes.</param>
/// <param name="When">For whom.</param>
/// <param name="Ask">The decider that is asked before it lets; null: none.</param>
/// <param name="CountOnly">Of presence it shows how many are there, and not who.</param>
public sealed record Policy(string Name, TopicPattern Topic, TopicRights Rights, bool Forbids, PolicyConditions When, string? Ask,
    bool CountOnly = false);

/// <summary>A permission given to one user or role on one topic.</summary>
/// <param name="Number">The position of the entry that gave it: its id.</param>
/// <param name="Person">The store's number of the user; 0: it is a role's.</param>
/// <param name="Role">The role; empty: it is a user's.</param>
/// <param name="Topic">The topic.</param>
/// <param name="Rights">What it lets do.</param>
/// <param name="Until">When it ends by itself; null: not.</param>
/// <param name="Ended">The position of the entry that ended it; null: it has not ended.</param>
/// <param name="Policy">The policy by which the backend was asked and allowed it; empty: it was given by the API.</param>
/// <param name="Profile">What the backend's answer says of the person to others, as JSON; empty: nothing.</param>
public sealed record Grant(long Number, long Person, string Role, string Topic, TopicRights Rights, StoredTime? Until, long? Ended,
    string Policy, string Profile)
{
    /// <summary>From which position on it holds: an answer of the backend that took the place of another holds since that did.</summary>
    public long Since { get; init; } = Number;
}
