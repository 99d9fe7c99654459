using System.Text.Json.Nodes;

namespace Rovett.Cli.Types;

/// <summary>A JSON Schema as what programs declare.</summary>
sealed class SchemaShape(JsonNode? root)
{
    /// <summary>A part of it, with what it refers to in its place.</summary>
    public JsonObject? Of(JsonNode? node)
    {
        while (node is JsonObject schema && (string?)schema["$ref"] is { } reference)
        {
            node = root?["$defs"]?[reference["#/$defs/".Length..]];
        }
        return node as JsonObject;
    }

    /// <summary>The types that a value can have.</summary>
    public static List<string> TypesOf(JsonObject schema) => schema["type"] switch
    {
        JsonArray list => [.. list.Select(t => (string)t!)],
        JsonValue one => [(string)one!],
        _ when schema["properties"] is not null => ["object"],
        _ => [],
    };

    /// <summary>The values that are allowed; null: any.</summary>
    public static List<JsonNode?>? ValuesOf(JsonObject schema) =>
        schema.ContainsKey("const") ? [schema["const"]] : schema["enum"] is JsonArray list ? [.. list] : null;

    /// <summary>The members of an object, each with whether it must be there.</summary>
    public static IEnumerable<(string Name, JsonNode? Schema, bool IsRequired)> MembersOf(JsonObject schema)
    {
        var required = schema["required"] is JsonArray list ? list.Select(n => (string)n!).ToHashSet() : [];
        return (schema["properties"] as JsonObject ?? []).Select(m => (m.Key, m.Value, required.Contains(m.Key)));
    }

    /// <summary>The alternatives; null: there are none.</summary>
    public static JsonArray? AlternativesOf(JsonObject schema) => (schema["oneOf"] ?? schema["anyOf"]) as JsonArray;
}
