using System.Text.Json;
using System.Text.Json.Nodes;

namespace Rovett.Cli.Conformance;

/// <summary>One step of a conversation: what it is, and its details.</summary>
sealed record Step(string What, JsonNode? Details);

/// <summary>A recorded conversation between the service and a client, with what the application sees of it.</summary>
/// <param name="Name">The file's name.</param>
/// <param name="Title">The requirement.</param>
/// <param name="Through">The transports over which it is held, one after the other.</param>
/// <param name="Needs">Abilities that a client needs beside handling notifications.</param>
/// <param name="Steps">In order.</param>
/// <param name="Never">Events that the application must never see.</param>
sealed record Conversation(string Name, string Title, IReadOnlyList<string> Through, IReadOnlyList<string> Needs, IReadOnlyList<Step> Steps,
    IReadOnlyList<JsonNode> Never)
{
    static readonly string[] Known = ["opens", "refused", "says", "hears", "answers", "acked", "cut", "sees", "does", "quiet"];

    /// <summary>Every conversation of a folder, by name.</summary>
    /// <exception cref="UsageException">There is none, or one is broken.</exception>
    public static List<Conversation> Load(string folder)
    {
        var files = Directory.Exists(folder) ? Directory.GetFiles(folder, "*.json") : [];
        if (files.Length == 0)
        {
            throw new UsageException($"--conversations: no conversations in '{folder}'.",
                "Name the folder docs/conformance of the sources, or leave it out.");
        }
        return [.. files.Order(StringComparer.Ordinal).Select(Read)];
    }

    static Conversation Read(string file)
    {
        try
        {
            var root = JsonNode.Parse(File.ReadAllText(file))!.AsObject();
            var steps = root["steps"]!.AsArray().Select(s => s!.AsObject().Single()).Select(s => new Step(s.Key, s.Value)).ToList();
            if (steps.Find(s => !Known.Contains(s.What)) is { } odd) throw new FormatException($"there is no step '{odd.What}'");
            return new Conversation(Path.GetFileNameWithoutExtension(file), (string)root["title"]!,
                Texts(root["through"]) is { Count: > 0 } through ? through : ["websocket", "sse", "long-poll"], Texts(root["needs"]), steps,
                [.. root["never"]?.AsArray().Select(n => n!) ?? []]);
        }
        catch (Exception error) when (error is JsonException or InvalidOperationException or FormatException or NullReferenceException)
        {
            throw new UsageException($"{file} is not a conversation: {error.Message}.", "docs/conformance/README.md says what one is.");
        }
    }

    static List<string> Texts(JsonNode? list) => [.. list?.AsArray().Select(t => (string)t!) ?? []];

    /// <summary>Whether a value has everything that a pattern names. Null matches what is left out.</summary>
    public static bool Fits(JsonNode? value, JsonNode? pattern) => pattern switch
    {
        null => value is null,
        JsonObject members => value is JsonObject its && members.All(m => Fits(its[m.Key], m.Value)),
        JsonArray items => value is JsonArray its && its.Count == items.Count && items.Zip(its).All(p => Fits(p.Second, p.First)),
        _ => JsonNode.DeepEquals(value, pattern),
    };
}
