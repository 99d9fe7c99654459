using System.Text.Json;
using Rovett.Service.Http;

namespace Rovett.Service.Endpoints.Events;

/// <summary>Rules: docs/rules.md. YAML is taken as well as JSON.</summary>
public sealed record RulesDocument
{
    /// <summary>The rules, in order.</summary>
    [Example("""
        [{"name":"Engine check due","event":"engine.check.due","to":["role:engineer"],"notification":{"title":"Check due"}}]
        """)]
    public required JsonElement Rules { get; set; }

    /// <summary>The tests beside them.</summary>
    public JsonElement? Tests { get; set; }

    /// <summary>The types of notification; as in <c>PUT /v1/types</c>.</summary>
    public JsonElement? Types { get; set; }

    /// <summary>The types of event.</summary>
    public JsonElement? Events { get; set; }
}

/// <summary>Which version to show.</summary>
public sealed record RulesQuery
{
    /// <summary>A version; absent: the one in effect.</summary>
    [Example(44)]
    public long? Version { get; set; }
}

/// <summary>How rules are loaded.</summary>
public sealed record LoadRulesQuery
{
    /// <summary>True: only checks them.</summary>
    [Example(false)]
    public bool? DryRun { get; set; }
}

/// <summary>A rule, with how often it was used since the service started.</summary>
public sealed record RuleAnswer
{
    /// <summary>Its name.</summary>
    [Example("Engine check due")]
    public required string Name { get; init; }

    /// <summary>The types of event it is for.</summary>
    [Example("engine.check.due")]
    public required IReadOnlyList<string> Events { get; init; }

    /// <summary>The recipients, as written.</summary>
    [Example("role:engineer")]
    public required IReadOnlyList<string> To { get; init; }

    /// <summary>How many events it matched.</summary>
    [Example(12)]
    public required long Matched { get; init; }

    /// <summary>When it last matched.</summary>
    public StoredTime? LastMatched { get; init; }

    /// <summary>When it last failed.</summary>
    public StoredTime? LastFailed { get; init; }

    /// <summary>Why it last failed.</summary>
    public string? LastReason { get; init; }
}

/// <summary>A type of event that no rule matched since the service started.</summary>
public sealed record UnmatchedAnswer
{
    /// <summary>The type.</summary>
    [Example("engine.chek.due")]
    public required string Type { get; init; }

    /// <summary>How many events.</summary>
    [Example(3)]
    public required long Count { get; init; }

    /// <summary>The nearest type that a rule is for.</summary>
    [Example("engine.check.due")]
    public string? Nearest { get; init; }
}

/// <summary>The rules of a space.</summary>
public sealed record RulesAnswer
{
    /// <summary>The version; 0: none were loaded.</summary>
    [Example(44)]
    public required long Version { get; init; }

    /// <summary>When they were loaded.</summary>
    public StoredTime? Loaded { get; init; }

    /// <summary>The document as it was loaded.</summary>
    [Example("rules:\n  - name: Engine check due\n    event: engine.check.due\n    to: [role:engineer]\n    notification: { title: " +
        "Check due }\n")]
    public string? Document { get; init; }

    /// <summary>The rules, in order.</summary>
    public required IReadOnlyList<RuleAnswer> Rules { get; init; }

    /// <summary>Types of event that no rule matched.</summary>
    public required IReadOnlyList<UnmatchedAnswer> Unmatched { get; init; }
}

/// <summary>The result of loading rules.</summary>
public sealed record RulesLoaded
{
    /// <summary>True when they were only checked.</summary>
    public bool? DryRun { get; init; }

    /// <summary>The version.</summary>
    [Example(44)]
    public long? Version { get; init; }

    /// <summary>When they were loaded.</summary>
    public StoredTime? Loaded { get; init; }

    /// <summary>How many rules.</summary>
    [Example(5)]
    public required int Rules { get; init; }

    /// <summary>How many tests.</summary>
    [Example(4)]
    public required int Tests { get; init; }

    /// <summary>What to look at: tests that fail, rules without a test.</summary>
    [Example("no test covers the rule 'Crew told of a delay'")]
    public required IReadOnlyList<string> Warnings { get; init; }
}

/// <summary>An event to try.</summary>
public sealed record TryRequest
{
    /// <summary>The event, in the JSON format of CloudEvents.</summary>
    [Example("""{"specversion":"1.0","id":"1","source":"/planning/1","type":"engine.check.due","data":{}}""")]
    public JsonElement? Event { get; set; }

    /// <summary>Rules to try it with, YAML or JSON; absent: those in effect.</summary>
    public string? Document { get; set; }
}

/// <summary>A rule for the event's type.</summary>
public sealed record TriedRule
{
    /// <summary>Its name.</summary>
    [Example("Engine check due")]
    public required string Rule { get; init; }

    /// <summary>Whether it matches.</summary>
    [Example(true)]
    public required bool Matches { get; init; }

    /// <summary>The condition that is not met.</summary>
    [Example("data:/priority is \"low\"; must be high or urgent")]
    public string? Because { get; init; }

    /// <summary>Why it matches and yet fails.</summary>
    public string? Fails { get; init; }

    /// <summary>For how long it would gather, in seconds.</summary>
    public long? GathersForSeconds { get; init; }

    /// <summary>The notifications it would make; at most 20 are shown.</summary>
    public required IReadOnlyList<TriedNotification> Notifications { get; init; }

    /// <summary>How many notifications it would make.</summary>
    [Example(1)]
    public required int Count { get; init; }
}

/// <summary>A notification that would be made.</summary>
public sealed record TriedNotification
{
    /// <summary>It, as a send's body.</summary>
    [Example("""{"to":["role:engineer"],"type":"engine.check.due","title":"Turnstone: bow thruster due"}""")]
    public required JsonElement Notification { get; init; }

    /// <summary>Whom it would reach.</summary>
    public required IReadOnlyList<TriedReach> Reach { get; init; }

    /// <summary>Its size on the wire, in bytes, without framing.</summary>
    [Example(212)]
    public required int Bytes { get; init; }
}

/// <summary>Whom a notification would reach by an address.</summary>
public sealed record TriedReach
{
    /// <summary>The address.</summary>
    [Example("role:engineer")]
    public required string Address { get; init; }

    /// <summary>Users who hold it.</summary>
    [Example(3)]
    public required long Users { get; init; }

    /// <summary>Those connected now.</summary>
    [Example(2)]
    public required long Connected { get; init; }
}

/// <summary>What rules would make of an event.</summary>
public sealed record TryAnswer
{
    /// <summary>The version of the rules; absent: those of the request.</summary>
    [Example(44)]
    public long? Version { get; init; }

    /// <summary>The rules for its type, in order.</summary>
    public required IReadOnlyList<TriedRule> Rules { get; init; }

    /// <summary>For a type without a rule: the nearest that has one.</summary>
    public string? Nearest { get; init; }
}
