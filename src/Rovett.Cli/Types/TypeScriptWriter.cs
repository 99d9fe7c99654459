using System.Text;
using System.Text.Encodings.Web;
using System.Text.Json;
using System.Text.Json.Nodes;
using System.Text.RegularExpressions;
using Rovett.Core.Catalogues;
using Rovett.Core.Schemas;

namespace Rovett.Cli.Types;

/// <summary>Writes a catalogue as TypeScript: the data of each type, and functions by which senders and handlers are checked.</summary>
static partial class TypeScriptWriter
{
    static readonly JsonSerializerOptions Relaxed = new() { Encoder = JavaScriptEncoder.UnsafeRelaxedJsonEscaping };

    public static string Write(Catalogue catalogue)
    {
        var text = new StringBuilder("""
            // Made by `rovett types generate`. Change the catalogue instead, and make it anew.
            import type { Live, Notification } from 'rovett';
            import type { BackendEvent } from 'rovett/backend';

            /** The data of notifications, by type. */
            export interface NotificationData {

            """);
        foreach (var type in catalogue.Types) Member(text, type.Type, type.NameIn(["en"]), type.Data);
        text.Append("}\n\n/** The data of events, by type. */\nexport interface EventData {\n");
        foreach (var type in catalogue.Events) Member(text, type.Type, null, type.Data);
        text.Append("""
            }

            /** Handles notifications of a type, with its data. Ends when the function it returns is called. */
            export function on<T extends keyof NotificationData & string>(
              live: Live,
              type: T,
              handler: (notification: Notification<NotificationData[T]>) => unknown,
            ): () => void {
              return live.on<NotificationData[T]>(type, handler);
            }

            /** An event of a type, with its data. */
            export function eventOf<T extends keyof EventData & string>(
              source: string,
              type: T,
              data: EventData[T],
              more: Partial<BackendEvent> = {},
            ): BackendEvent {
              return { ...more, source, type, data };
            }

            """);
        return text.ToString();
    }

    static void Member(StringBuilder text, string type, string? name, DataSchema? schema)
    {
        if (name is not null) text.Append("  /** ").Append(name.Replace("*/", "* /", StringComparison.Ordinal)).Append(" */\n");
        var root = schema is null ? null : JsonNode.Parse(schema.ToJson().GetRawText());
        text.Append("  ").Append(Name(type)).Append(": ").Append(root is null ? "unknown" : TypeOf(new SchemaShape(root), root, 1))
            .Append(";\n");
    }

    static string TypeOf(SchemaShape shape, JsonNode? node, int depth)
    {
        if (shape.Of(node) is not { } schema) return "unknown";
        if (SchemaShape.ValuesOf(schema) is { } values) return string.Join(" | ", values.Select(Literal));
        if (SchemaShape.AlternativesOf(schema) is { } some) return string.Join(" | ", some.Select(s => Wrapped(TypeOf(shape, s, depth))));
        if (schema["allOf"] is JsonArray all) return string.Join(" & ", all.Select(s => Wrapped(TypeOf(shape, s, depth))));
        var types = SchemaShape.TypesOf(schema);
        return types.Count == 0 ? "unknown" : string.Join(" | ", types.Select(t => t switch
        {
            "string" => "string",
            "number" or "integer" => "number",
            "boolean" => "boolean",
            "null" => "null",
            "array" => Wrapped(TypeOf(shape, schema["items"], depth)) + "[]",
            _ => ObjectOf(shape, schema, depth),
        }).Distinct());
    }

    static string ObjectOf(SchemaShape shape, JsonObject schema, int depth)
    {
        var members = SchemaShape.MembersOf(schema).ToList();
        if (members.Count == 0)
        {
            return schema["additionalProperties"] is JsonObject any
                ? $"Record<string, {TypeOf(shape, any, depth)}>"
                : "Record<string, unknown>";
        }
        var indent = new string(' ', 2 * (depth + 1));
        return "{\n" + string.Concat(members.Select(m =>
            $"{indent}{Name(m.Name)}{(m.IsRequired ? "" : "?")}: {TypeOf(shape, m.Schema, depth + 1)};\n")) + indent[2..] + "}";
    }

    static string Literal(JsonNode? value) => value is JsonObject or JsonArray ? "unknown"
        : value is JsonValue v && v.GetValueKind() == JsonValueKind.String ? Quoted((string)v!) : value?.ToJsonString() ?? "null";

    static string Wrapped(string type) => type.Contains('|', StringComparison.Ordinal) || type.Contains('&', StringComparison.Ordinal)
        ? $"({type})" : type;

    static string Name(string name) => Plain().IsMatch(name) ? name : Quoted(name);

    static string Quoted(string text) =>
        "'" + JsonSerializer.Serialize(text, Relaxed)[1..^1].Replace("\\\"", "\"", StringComparison.Ordinal)
        .Replace("'", "\\'", StringComparison.Ordinal) + "'";

    [GeneratedRegex("^[A-Za-z_$][A-Za-z0-9_$]*$")]
    private static partial Regex Plain();
}
