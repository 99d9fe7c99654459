using System.Text.Json.Nodes;
using YamlDotNet.Core;
using YamlDotNet.RepresentationModel;

namespace Rovett.Cli;

/// <summary>YAML as people write it, as the JSON that the service takes.</summary>
static class Yaml
{
    /// <summary>Reads a file that is YAML or JSON (which is YAML too).</summary>
    /// <exception cref="UsageException">It can't be read, with the line and the fix.</exception>
    public static JsonNode Read(string path)
    {
        try
        {
            var yaml = new YamlStream();
            using (var text = path == "-" ? Console.In : new StreamReader(path)) yaml.Load(text);
            return yaml.Documents.Count == 1 ? ToJson(yaml.Documents[0].RootNode)
                : throw new UsageException($"{path} contains {yaml.Documents.Count} documents.", "Give a file with one.");
        }
        catch (YamlException error)
        {
            throw new UsageException(
                $"{path}, line {error.Start.Line}, column {error.Start.Column}: {error.InnerException?.Message ?? error.Message}",
                "Fix the file: it must be YAML or JSON.");
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            throw new UsageException($"{path} can't be read: {error.Message}", "Check its name, or give - to read from standard input.");
        }
    }

    /// <summary>A node as JSON: plain true, false and whole numbers as such, everything else as text.</summary>
    public static JsonNode ToJson(YamlNode node) => node switch
    {
        YamlMappingNode map =>
            new JsonObject(map.Children.Select(c => KeyValuePair.Create(((YamlScalarNode)c.Key).Value!, (JsonNode?)ToJson(c.Value)))),
        YamlSequenceNode list => new JsonArray([.. list.Children.Select(ToJson)]),
        YamlScalarNode { Style: ScalarStyle.Plain, Value: "true" } => JsonValue.Create(true),
        YamlScalarNode { Style: ScalarStyle.Plain, Value: "false" } => JsonValue.Create(false),
        YamlScalarNode { Style: ScalarStyle.Plain } scalar when long.TryParse(scalar.Value, out long number) => JsonValue.Create(number),
        YamlScalarNode scalar => JsonValue.Create(scalar.Value ?? ""),
        _ => throw new UsageException("The file must contain only maps, lists and text.",
            "Write it out without anchors and aliases."),
    };
}
