using System.Text.Json;
using System.Text.Json.Serialization;
using Rovett.Service.Http;

namespace Rovett.Service.Endpoints.Events;

/// <summary>A catalogue of types: docs/types.md. YAML is taken as well as JSON.</summary>
public sealed record TypesDocument
{
    /// <summary>Types of notification: name for people, urgency, always, receipts, carry, and a JSON Schema of their data.</summary>
    [Example("{\"engine.check.due\":{\"name\":\"Engine checks\",\"urgency\":\"high\"," +
        "\"data\":{\"type\":\"object\",\"properties\":{\"checkId\":{\"type\":\"integer\"}}}}}")]
    public JsonElement? Types { get; set; }

    /// <summary>Types of event, with a JSON Schema of their data.</summary>
    [Example("""{"engine.check.due":{"data":{"type":"object","required":["vessel"],"properties":{"vessel":{"type":"string"}}}}}""")]
    public JsonElement? Events { get; set; }
}

/// <summary>The catalogue of types in effect.</summary>
public sealed record TypesAnswer
{
    /// <summary>Its version; 0: none was loaded.</summary>
    [Example(45)]
    public required long Version { get; init; }

    /// <summary>Whether types that are not in it are refused (setting <c>strictTypes</c>).</summary>
    [Example(false)]
    public required bool Strict { get; init; }

    /// <summary>The types of notification.</summary>
    public required IReadOnlyList<TypeAnswer> Types { get; init; }

    /// <summary>The types of event.</summary>
    public required IReadOnlyList<EventTypeAnswer> Events { get; init; }
}

/// <summary>A type of notification.</summary>
public sealed record TypeAnswer
{
    /// <summary>The type.</summary>
    [Example("engine.check.due")]
    public required string Type { get; init; }

    /// <summary>Its names for people by language; of a single name, the language is empty.</summary>
    [Example("{\"en\":\"Engine checks\"}")]
    public required IReadOnlyDictionary<string, string> Names { get; init; }

    /// <summary>The urgency of one that names none.</summary>
    [OneOf("very-low", "low", "normal", "high"), Example("high")]
    public string? Urgency { get; init; }

    /// <summary>True when people are always told of it.</summary>
    [Example(true)]
    public bool? Always { get; init; }

    /// <summary>The receipts kept of it.</summary>
    [OneOf("full", "totals", "none"), Example("full")]
    public required string Receipts { get; init; }

    /// <summary>The most of it that is sent to devices.</summary>
    [OneOf("full", "summary", "reference"), Example("full")]
    public required string Carry { get; init; }

    /// <summary>The JSON Schema of its data.</summary>
    [Example("{\"type\":\"object\",\"properties\":{\"checkId\":{\"type\":\"integer\"}}}")]
    public JsonElement? Data { get; init; }
}

/// <summary>A type of event.</summary>
public sealed record EventTypeAnswer
{
    /// <summary>The type.</summary>
    [Example("engine.check.due")]
    public required string Type { get; init; }

    /// <summary>The JSON Schema of its data.</summary>
    [Example("{\"type\":\"object\",\"required\":[\"vessel\"]}")]
    public JsonElement? Data { get; init; }
}

/// <summary>A catalogue that was loaded.</summary>
public sealed record TypesLoaded
{
    /// <summary>True for a dry run: nothing was loaded.</summary>
    [Example(false)]
    public bool? DryRun { get; init; }

    /// <summary>Its version.</summary>
    [Example(45)]
    public long? Version { get; init; }

    /// <summary>How many types of notification it has.</summary>
    [Example(8)]
    public required int Types { get; init; }

    /// <summary>How many types of event it has.</summary>
    [Example(8)]
    public required int Events { get; init; }

    /// <summary>What in the rules in effect does not fit it.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.Never)]
    public required IReadOnlyList<string> Warnings { get; init; }
}
