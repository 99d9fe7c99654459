using System.Text.RegularExpressions;
using Rovett.Core.Notifications;
using Rovett.Core.Schemas;
using Rovett.Core.Yaml;

namespace Rovett.Core.Catalogues;

/// <summary>Reads a catalogue: the parts <c>types</c> and <c>events</c> of a file, and finds every mistake in them.</summary>
public sealed partial class CatalogueReader
{
    const int MaxTypes = 1000, MaxType = 128, MaxName = 128, MaxLanguages = 50;
    static readonly string[] TypeFields = ["name", "urgency", "always", "receipts", "carry", "data"], EventFields = ["data"];

    readonly List<RuleMistake> mistakes;

    CatalogueReader(List<RuleMistake> mistakes) => this.mistakes = mistakes;

    /// <summary>Reads the catalogue of a file; rules and tests beside it are passed over.</summary>
    /// <param name="bytes">YAML 1.2 or JSON, UTF-8.</param>
    /// <param name="mistakes">Receives the mistakes; the result is then meaningless.</param>
    public static Catalogue Read(ReadOnlySpan<byte> bytes, List<RuleMistake> mistakes)
    {
        if (RuleYaml.Read(bytes, mistakes) is not { } root) return Catalogue.None;
        if (root.Kind != RuleNodeKind.Map || (root["types"] is null && root["events"] is null))
        {
            mistakes.Add(RuleMistake.At(root, "(file)", "must be a mapping with 'types', 'events' or both"));
            return Catalogue.None;
        }
        foreach (var member in root.Members.Where(m => m.Name is not ("types" or "events" or "rules" or "tests")))
        {
            mistakes.Add(RuleMistake.At(member, member.Name, "is unknown; there are types and events"));
        }
        var catalogue = Read(root, mistakes);
        mistakes.Sort((a, b) => (a.Line, a.Column).CompareTo((b.Line, b.Column)));
        return catalogue;
    }

    /// <summary>Reads its parts of a file; null: the file has none.</summary>
    internal static Catalogue? OfFile(RuleNode root, List<RuleMistake> mistakes) =>
        root["types"] is null && root["events"] is null ? null : Read(root, mistakes);

    static Catalogue Read(RuleNode root, List<RuleMistake> mistakes)
    {
        var reader = new CatalogueReader(mistakes);
        return new Catalogue([.. reader.Each(root["types"], "types", TypeFields).Select(t => reader.Type(t.Name, t.Node, t.Path))],
            [.. reader.Each(root["events"], "events", EventFields).Select(e => new EventType(e.Name, reader.Data(e.Node, e.Path)))]);
    }

    List<(string Name, RuleNode Node, string Path)> Each(RuleNode? map, string path, string[] fields)
    {
        var found = new List<(string, RuleNode, string)>();
        if (map is null) return found;
        if (map.Kind != RuleNodeKind.Map || map.Members.Count > MaxTypes)
        {
            Add(map, path, $"must be a mapping of at most {MaxTypes} types");
            return found;
        }
        foreach (var member in map.Members.DistinctBy(m => m.Name)) // a second one of a name was told of when the file was read
        {
            var at = $"{path}.{member.Name}";
            if (member.Name.Length is 0 or > MaxType || member.Name.Any(char.IsControl)
                || member.Name.Contains('*', StringComparison.Ordinal))
            {
                mistakes.Add(RuleMistake.At(member, at, $"must be a type of 1 to {MaxType} characters, without '*'"));
            }
            else if (member.Value.Kind is not (RuleNodeKind.Map or RuleNodeKind.Null))
            {
                Add(member.Value, at, $"must be a mapping with {string.Join(", ", fields)}");
            }
            else
            {
                Unknown(member.Value, at, fields);
                found.Add((member.Name, member.Value, at));
            }
        }
        return found;
    }

    void Unknown(RuleNode node, string path, string[] fields)
    {
        foreach (var member in node.Members.Where(m => !fields.Contains(m.Name)))
        {
            var near = NearNames.Among(fields, member.Name);
            mistakes.Add(RuleMistake.At(member, $"{path}.{member.Name}", near.Count > 0 ? $"is unknown; did you mean '{near[0]}'?"
                : $"is unknown; the fields here are {string.Join(", ", fields)}"));
        }
    }

    NotificationType Type(string type, RuleNode node, string path) => new(type)
    {
        Names = NamesIn(node["name"], path + ".name"),
        Urgency = Word(node["urgency"], path + ".urgency", "very-low", "low", "normal", "high"),
        IsAlways = Flag(node["always"], path + ".always"),
        Receipts = Word(node["receipts"], path + ".receipts", "none", "totals", "full") switch
        {
            "none" => ReceiptLevel.None,
            "totals" => ReceiptLevel.Totals,
            "full" => ReceiptLevel.Full,
            _ => null,
        },
        Carry = Word(node["carry"], path + ".carry", "full", "summary", "reference") switch
        {
            "summary" => Carry.Summary,
            "reference" => Carry.Reference,
            _ => Carry.Full,
        },
        Data = Data(node, path),
    };

    DataSchema? Data(RuleNode node, string path) =>
        node["data"] is { } schema ? new SchemaReader(mistakes).Read(schema, path + ".data") : null;

    List<(string, string)> NamesIn(RuleNode? node, string path)
    {
        var names = new List<(string, string)>();
        switch (node?.Kind)
        {
            case null: break;
            case RuleNodeKind.Map when node.Members.Count is > 0 and <= MaxLanguages:
                foreach (var member in node.Members)
                {
                    if (!Language().IsMatch(member.Name))
                    {
                        mistakes.Add(RuleMistake.At(member, $"{path}.{member.Name}", "must be a language, such as en or pt-BR (BCP 47)"));
                    }
                    else if (NameIn(member.Value, $"{path}.{member.Name}") is { } name) names.Add((member.Name, name));
                }
                break;
            case RuleNodeKind.Map or RuleNodeKind.List: Add(node, path, "must be a text, or a mapping of languages to texts"); break;
            default:
                if (NameIn(node, path) is { } only) names.Add(("", only));
                break;
        }
        return names;
    }

    string? NameIn(RuleNode node, string path)
    {
        if (node.Kind is not (RuleNodeKind.List or RuleNodeKind.Map or RuleNodeKind.Null) && node.Text.Trim().Length is > 0 and <= MaxName
            && !node.Text.Any(char.IsControl))
        {
            return node.Text;
        }
        Add(node, path, $"must be a text of 1 to {MaxName} characters");
        return null;
    }

    string? Word(RuleNode? node, string path, params string[] words)
    {
        if (node is null) return null;
        if (node.Kind == RuleNodeKind.Text && words.Contains(node.Text)) return node.Text;
        Add(node, path, $"must be one of {string.Join(", ", words)}");
        return null;
    }

    bool Flag(RuleNode? node, string path)
    {
        if (node is not null && node.Kind != RuleNodeKind.Flag) Add(node, path, "must be true or false");
        return node is { Kind: RuleNodeKind.Flag, Flag: true };
    }

    void Add(RuleNode node, string field, string detail) => mistakes.Add(RuleMistake.At(node, field, detail));

    [GeneratedRegex("^[A-Za-z]{2,8}(-[A-Za-z0-9]{1,8}){0,4}$")]
    private static partial Regex Language();
}
