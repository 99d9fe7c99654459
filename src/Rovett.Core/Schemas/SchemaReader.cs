using System.Buffers;
using System.Text;
using System.Text.Json;
using System.Text.RegularExpressions;
using Rovett.Core.Yaml;

namespace Rovett.Core.Schemas;

/// <summary>Reads a JSON Schema: the part of draft 2020-12 that describes data, with nothing that leads outside or takes long.</summary>
sealed class SchemaReader(List<RuleMistake> mistakes)
{
    const int MaxNodes = 500, MaxCost = 1000;
    static readonly string[] Schemas = ["not", "additionalProperties", "items"], Lists = ["allOf", "anyOf", "oneOf"];
    static readonly string[] Plain = ["type", "enum", "format", "minimum", "maximum", "exclusiveMinimum", "exclusiveMaximum", "multipleOf",
        "minLength", "maxLength", "minItems", "maxItems", "uniqueItems", "minProperties", "maxProperties", "required"];
    static readonly string[] Ignored = ["$schema", "$id", "$comment", "title", "description", "default", "examples"];
    static readonly string[] Known = [.. Schemas, .. Lists, .. Plain, .. Ignored, "properties", "pattern", "const", "$ref", "$defs"];

    const string DefsPrefix = "#/$defs/";

    readonly HashSet<string> patterns = [];
    RuleNode root = null!;
    int nodes;

    /// <summary>Reads one; null with mistakes.</summary>
    public DataSchema? Read(RuleNode node, string path)
    {
        int before = mistakes.Count;
        root = node;
        var buffer = new ArrayBufferWriter<byte>(512);
        using (var json = new Utf8JsonWriter(buffer, JsonText.WriterOptions)) Schema(json, node, path);
        if (mistakes.Count == before && Cost(node, path, []) > MaxCost)
        {
            mistakes.Add(RuleMistake.At(node, path, $"comes to more than {MaxCost} parts with everything that it refers to"));
        }
        if (mistakes.Count > before) return null;
        try
        {
            return new DataSchema(node, Encoding.UTF8.GetString(buffer.WrittenSpan), patterns);
        }
        catch (Exception error) when (error is InvalidOperationException or FormatException or Newtonsoft.Json.JsonException
            or ArgumentException or InvalidCastException or OverflowException)
        {
            mistakes.Add(RuleMistake.At(node, path, $"is no JSON Schema: {error.Message.Split('\n')[0]}"));
            return null;
        }
    }

    void Schema(Utf8JsonWriter json, RuleNode node, string path)
    {
        if (++nodes == MaxNodes) mistakes.Add(RuleMistake.At(node, path, $"has more than {MaxNodes} parts"));
        if (node.Kind == RuleNodeKind.Flag)
        {
            json.WriteBooleanValue(node.Flag);
            return;
        }
        if (node.Kind != RuleNodeKind.Map || nodes > MaxNodes)
        {
            if (nodes < MaxNodes) mistakes.Add(RuleMistake.At(node, path, $"must be a JSON Schema: a mapping, not a {node.KindName}"));
            json.WriteBooleanValue(true);
            return;
        }
        json.WriteStartObject();
        string? pattern = null;
        foreach (var member in node.Members)
        {
            if (member.Name == "pattern") pattern = PatternOf(member, path);
            else if (member.Name != "allOf") Keyword(json, member, $"{path}.{member.Name}");
        }
        if (pattern is not null || node["allOf"] is not null)
        {
            json.WriteStartArray("allOf");
            if (node["allOf"] is { } all) Items(json, all, path + ".allOf");
            if (pattern is not null)
            {
                json.WriteStartObject();
                json.WriteString("format", "pattern:" + pattern);
                json.WriteEndObject();
            }
            json.WriteEndArray();
        }
        json.WriteEndObject();
    }

    void Keyword(Utf8JsonWriter json, RuleMember member, string path)
    {
        var (name, value) = (member.Name, member.Value);
        if (name == "$ref")
        {
            Reference(value, path);
            json.WriteString("$ref", value.Text.Replace(DefsPrefix, "#/definitions/", StringComparison.Ordinal));
        }
        else if (name is "properties" or "$defs") Map(json, name == "$defs" ? "definitions" : name, value, path);
        else if (name == "const")
        {
            json.WriteStartArray("enum");
            value.Write(json);
            json.WriteEndArray();
        }
        else if (Schemas.Contains(name))
        {
            json.WritePropertyName(name);
            Schema(json, value, path);
        }
        else if (Lists.Contains(name))
        {
            json.WriteStartArray(name);
            Items(json, value, path);
            json.WriteEndArray();
        }
        else if (Plain.Contains(name))
        {
            Value(member, path);
            json.WritePropertyName(name);
            value.Write(json);
        }
        else if (!Ignored.Contains(name))
        {
            var near = NearNames.Among(Known, name);
            mistakes.Add(RuleMistake.At(member, path, near.Count > 0 ? $"is unknown; did you mean '{near[0]}'?"
                : "is not used here; describe the data with type, properties, required, items, enum, minimum, pattern …"));
        }
    }

    void Reference(RuleNode value, string path)
    {
        if (!value.Text.StartsWith(DefsPrefix, StringComparison.Ordinal) || root["$defs"]?[value.Text[DefsPrefix.Length..]] is null)
        {
            mistakes.Add(RuleMistake.At(value, path, "must lead to a part of this schema, #/$defs/…, which is there"));
        }
    }

    /// <summary>How many parts a schema has with what it refers to: that is what a value can cost. Nothing may contain itself.</summary>
    int Cost(RuleNode node, string path, List<string> within)
    {
        int cost = 1;
        if (node["$ref"] is { } reference)
        {
            var name = reference.Text[DefsPrefix.Length..];
            if (within.Contains(name))
            {
                mistakes.Add(RuleMistake.At(reference, path, $"leads round in a circle: {string.Join(", ", within)}"));
                return MaxCost;
            }
            cost += Cost(root["$defs"]![name]!, path, [.. within, name]);
        }
        foreach (var member in node.Members)
        {
            var inside = member.Name == "properties" ? member.Value.Members.Select(m => m.Value)
                : Lists.Contains(member.Name) ? member.Value.Items
                : Schemas.Contains(member.Name) ? [member.Value] : [];
            foreach (var one in inside)
            {
                if (cost > MaxCost) return cost;
                cost += Cost(one, path, within);
            }
        }
        return cost;
    }

    void Map(Utf8JsonWriter json, string name, RuleNode value, string path)
    {
        json.WriteStartObject(name);
        if (value.Kind != RuleNodeKind.Map) mistakes.Add(RuleMistake.At(value, path, "must be a mapping of names to schemas"));
        foreach (var member in value.Members)
        {
            json.WritePropertyName(member.Name);
            Schema(json, member.Value, $"{path}.{member.Name}");
        }
        json.WriteEndObject();
    }

    void Items(Utf8JsonWriter json, RuleNode value, string path)
    {
        if (value.Kind != RuleNodeKind.List || value.Items.Count == 0)
        {
            mistakes.Add(RuleMistake.At(value, path, "must be a list of schemas"));
            return;
        }
        for (int i = 0; i < value.Items.Count; i++) Schema(json, value.Items[i], $"{path}[{i}]");
    }

    /// <summary>Values that the validator would stumble over.</summary>
    void Value(RuleMember member, string path)
    {
        var value = member.Value;
        var wrong = member.Name switch
        {
            "type" when !Types(value) => "must be object, array, string, number, integer, boolean, null or a list of them",
            "enum" when value.Kind != RuleNodeKind.List || value.Items.Count == 0 => "must be a list of values",
            "required" when value.Kind != RuleNodeKind.List || value.Items.Any(i => i.Kind != RuleNodeKind.Text) =>
                "must be a list of names",
            "format" when value.Kind != RuleNodeKind.Text || value.Text.Contains(':', StringComparison.Ordinal) =>
                "must be a format's name",
            "uniqueItems" when value.Kind != RuleNodeKind.Flag => "must be true or false",
            "minimum" or "maximum" or "exclusiveMinimum" or "exclusiveMaximum" when value.Kind != RuleNodeKind.Number => "must be a number",
            "multipleOf" when value.Kind != RuleNodeKind.Number || value.Number <= 0 => "must be a number above 0",
            _ when (member.Name.StartsWith("min", StringComparison.Ordinal) || member.Name.StartsWith("max", StringComparison.Ordinal))
                && char.IsUpper(member.Name[3]) && (value.Kind != RuleNodeKind.Number || !int.TryParse(value.Text, out int n) || n < 0) =>
                "must be a whole number from 0 on",
            _ => null,
        };
        if (wrong is not null) mistakes.Add(RuleMistake.At(value, path, wrong));
    }

    static bool Types(RuleNode value) => value.Kind == RuleNodeKind.List ? value.Items.Count > 0 && value.Items.All(Types)
        : value.Text is "object" or "array" or "string" or "number" or "integer" or "boolean" or "null";

    string? PatternOf(RuleMember member, string path)
    {
        try
        {
            if (member.Value.Kind is RuleNodeKind.List or RuleNodeKind.Map) throw new ArgumentException("it is no text");
            _ = new Regex(member.Value.Text, RegexOptions.NonBacktracking);
            patterns.Add(member.Value.Text);
            return member.Value.Text;
        }
        catch (Exception error) when (error is ArgumentException or NotSupportedException)
        {
            mistakes.Add(RuleMistake.At(member.Value, path + ".pattern",
                "is no pattern that can be matched without backtracking: leave out lookarounds, back references and atomic groups"));
            return null;
        }
    }
}
