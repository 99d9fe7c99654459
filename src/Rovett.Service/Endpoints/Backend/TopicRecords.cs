using System.Text.Json;
using Rovett.Service.Http;

namespace Rovett.Service.Endpoints.Backend;

/// <summary>All policies of a space. Read by the policy reader of the core; this is their shape.</summary>
public sealed record PolicyDocument
{
    /// <summary>The policies.</summary>
    [AtMost(10_000, "policies")]
    public required IReadOnlyList<PolicyRecord> Policies { get; set; }
}

/// <summary>A policy: what some users may do, or never may, on topics of a pattern.</summary>
public sealed record PolicyRecord
{
    /// <summary>The name by which explanations call it.</summary>
    [Text(1, 128), Example("berth-crew")]
    public required string Name { get; set; }

    /// <summary>The topics: a name, or a pattern with variables.</summary>
    [Example("berth/{berth}")]
    public required string Topic { get; set; }

    /// <summary>The rights it allows. A policy has this or <c>never</c>.</summary>
    [OneOf("subscribe", "follow", "say", "presence"), Example("subscribe", "follow")]
    public IReadOnlyList<string>? May { get; set; }

    /// <summary>The rights it forbids, whatever others allow.</summary>
    [OneOf("subscribe", "follow", "say", "presence")]
    public IReadOnlyList<string>? Never { get; set; }

    /// <summary>For whom: <c>anyone</c>, <c>role</c>, <c>user</c>, <c>claims</c>, <c>variables</c>.</summary>
    [Example("{\"role\":\"deck\"}")]
    public required JsonElement When { get; set; }

    /// <summary>The decider that is asked whether to allow it.</summary>
    [Text(1, 128)]
    public string? Ask { get; set; }

    /// <summary>With <c>presence</c>: who is there, or how many.</summary>
    [OneOf("people", "count")]
    public string? Shows { get; set; }
}

/// <summary>Which version of the policies.</summary>
public sealed record PolicyQuery
{
    /// <summary>The version that was loaded at this position; the one in effect when left out.</summary>
    [Whole(0, (1L << 43) - 1, Is = "a whole number, as in an earlier answer"), Example(41)]
    public long? Version { get; set; }
}

/// <summary>Policies, as one version.</summary>
public sealed record PolicyAnswer
{
    /// <summary>The version; 0: none was ever loaded.</summary>
    [Example(41)]
    public required long Version { get; init; }

    /// <summary>When it was loaded.</summary>
    public StoredTime? Loaded { get; init; }

    /// <summary>The policies.</summary>
    [Example("[{\"name\":\"berth-crew\",\"topic\":\"berth/{berth}\",\"may\":[\"subscribe\",\"follow\"],\"when\":{\"role\":\"deck\"}}]")]
    public required JsonElement Policies { get; init; }
}

/// <summary>Whether policies are only checked.</summary>
public sealed record LoadQuery
{
    /// <summary>True: only checks them.</summary>
    [Example(false)]
    public bool? DryRun { get; set; }
}

/// <summary>The result of loading policies.</summary>
public sealed record PoliciesLoaded
{
    /// <summary>True: they were only checked.</summary>
    public bool? DryRun { get; init; }

    /// <summary>The version they are.</summary>
    [Example(41)]
    public long? Version { get; init; }

    /// <summary>When they were loaded.</summary>
    public StoredTime? Loaded { get; init; }

    /// <summary>How many there are.</summary>
    [Example(6)]
    public required int Policies { get; init; }
}

/// <summary>A right to give to one user or role.</summary>
public sealed record GrantRequest
{
    /// <summary>The user. A grant has this or <c>role</c>.</summary>
    [Example("teo")]
    public string? User { get; set; }

    /// <summary>The role.</summary>
    public string? Role { get; set; }

    /// <summary>The topic.</summary>
    [Example("berth/3")]
    public string? Topic { get; set; }

    /// <summary>The rights it allows.</summary>
    [OneOf("subscribe", "follow", "say", "presence"), Example("subscribe", "follow")]
    public IReadOnlyList<string>? May { get; set; }

    /// <summary>For how long: a number with s, m, h or d.</summary>
    [Example("8h")]
    public string? For { get; set; }

    /// <summary>Until when (RFC 3339). A grant with neither has no end.</summary>
    public string? Until { get; set; }
}

/// <summary>Which grants are listed.</summary>
public sealed record GrantQuery
{
    /// <summary>Those of this user.</summary>
    [Example("teo")]
    public string? User { get; set; }

    /// <summary>Those of this role.</summary>
    [Example("deck")]
    public string? Role { get; set; }

    /// <summary>Those on this topic.</summary>
    [Example("berth/3")]
    public string? Topic { get; set; }

    /// <summary>Those after this number.</summary>
    [Whole(0, (1L << 43) - 1, Is = "a whole number, as in an earlier answer"), Example(0)]
    public long? After { get; set; }
}

/// <summary>A grant.</summary>
public sealed record GrantAnswer
{
    /// <summary>The user.</summary>
    [Example("teo")]
    public string? User { get; init; }

    /// <summary>The role.</summary>
    public string? Role { get; init; }

    /// <summary>Its number.</summary>
    [Example(43)]
    public required long Grant { get; init; }

    /// <summary>The topic.</summary>
    [Example("berth/3")]
    public required string Topic { get; init; }

    /// <summary>The rights it allows.</summary>
    [OneOf("subscribe", "follow", "say", "presence"), Example("subscribe", "follow")]
    public required IReadOnlyList<string> May { get; init; }

    /// <summary>When it ends.</summary>
    public StoredTime? Until { get; init; }

    /// <summary>The policy whose decider gave it.</summary>
    public string? Policy { get; init; }

    /// <summary>The user's profile from the decider, for presence.</summary>
    public JsonElement? Profile { get; init; }
}

/// <summary>Grants.</summary>
public sealed record GrantList
{
    /// <summary>The grants, by number.</summary>
    public required IReadOnlyList<GrantAnswer> Grants { get; init; }

    /// <summary>Ask with <c>after</c> this number for more.</summary>
    public long? Next { get; init; }
}

/// <summary>The user and address to explain.</summary>
public sealed record ExplainQuery
{
    /// <summary>The user.</summary>
    [Example("teo")]
    public string? User { get; set; }

    /// <summary>The address.</summary>
    [Example("topic:berth/3")]
    public string? On { get; set; }
}

/// <summary>Whether a user is on an address's channel, and why.</summary>
public sealed record ExplainAnswer
{
    /// <summary>The user.</summary>
    [Example("teo")]
    public required string User { get; init; }

    /// <summary>The address.</summary>
    [Example("topic:berth/3")]
    public required string On { get; init; }

    /// <summary>True when what is sent to the address reaches the user.</summary>
    [Example(false)]
    public required bool OnChannel { get; init; }

    /// <summary>The steps of the decision, in order.</summary>
    public required IReadOnlyList<ExplainStep> Steps { get; init; }

    /// <summary>For a topic: the same for each right.</summary>
    public IReadOnlyList<RightExplained>? Rights { get; init; }
}

/// <summary>A step of an explanation.</summary>
public sealed record ExplainStep
{
    /// <summary>The policy, grant or fact checked.</summary>
    [Example("policy berth-crew")]
    public required string What { get; init; }

    /// <summary>The outcome.</summary>
    [Example("does not apply")]
    public required string Outcome { get; init; }

    /// <summary>Why.</summary>
    [Example("teo does not have the role deck")]
    public required string Why { get; init; }

    /// <summary>The change that would help.</summary>
    [Example("give teo the role deck")]
    public string? Fix { get; init; }
}

/// <summary>Why a right is or is not given.</summary>
public sealed record RightExplained
{
    /// <summary>The right.</summary>
    [OneOf("subscribe", "follow", "say", "presence"), Example("subscribe")]
    public required string Right { get; init; }

    /// <summary>The right decided on.</summary>
    [OneOf("allow", "ask", "deny"), Example("deny")]
    public required string Decision { get; init; }

    /// <summary>By what.</summary>
    [Example("no policy or grant allows it")]
    public required string By { get; init; }

    /// <summary>The steps of the decision, in order.</summary>
    public required IReadOnlyList<ExplainStep> Steps { get; init; }
}
