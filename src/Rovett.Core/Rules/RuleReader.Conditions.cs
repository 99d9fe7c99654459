using System.Text.RegularExpressions;
using Rovett.Core.Events;
using Rovett.Core.Yaml;

namespace Rovett.Core.Rules;

/// <summary>Conditions.</summary>
public sealed partial class RuleReader
{
    static readonly string[] ComparisonFields = ["atLeast", "atMost", "above", "below", "not", "exists"];

    List<Condition> Conditions(RuleNode? node, string path)
    {
        var conditions = new List<Condition>();
        if (node is null) return conditions;
        if (node.Kind != RuleNodeKind.Map)
        {
            Add(node, path, "must be a mapping of conditions, such as data:/priority: [high, urgent]");
            return conditions;
        }
        if (node.Members.Count > MaxConditions) Add(node, path, $"has {node.Members.Count} conditions; the limit is {MaxConditions}");
        foreach (var member in node.Members)
        {
            if (Condition(member, $"{path}.{member.Name}") is { } condition) conditions.Add(condition);
        }
        return conditions;
    }

    Condition? Condition(RuleMember member, string path)
    {
        DataPointer? pointer = null;
        if (DataPointer.Is(member.Name))
        {
            if (DataPointer.TryParse(member.Name, out var found) is { } wrong)
            {
                mistakes.Add(RuleMistake.At(member, path, wrong));
                return null;
            }
            pointer = found;
        }
        else if (!AttributeName().IsMatch(member.Name))
        {
            mistakes.Add(RuleMistake.At(member, path, member.Name.StartsWith("data", StringComparison.Ordinal)
                ? $"is neither an attribute nor a place in the data; write data:/" +
                $"{member.Name["data".Length..].TrimStart('.', '/', ':').Replace('.', '/')}"
                : "is not the name of an attribute (a-z, 0-9) nor a place in the data (data:/…)"));
            return null;
        }
        var condition = new Condition(member.Name, pointer);
        if (member.Value.Kind != RuleNodeKind.Map)
        {
            return Comparands(member.Value, path) is { } values ? condition with { OneOf = values } : null;
        }
        return Comparisons(member.Value, path, condition);
    }

    Condition? Comparisons(RuleNode node, string path, Condition condition)
    {
        int before = mistakes.Count;
        if (!IsMap(node, path, ComparisonFields)) return null;
        if (node.Members.Count == 0) Add(node, path, $"compares with nothing; use {string.Join(", ", ComparisonFields)}");
        condition = condition with
        {
            AtLeast = Number(node, path, "atLeast"),
            AtMost = Number(node, path, "atMost"),
            Above = Number(node, path, "above"),
            Below = Number(node, path, "below"),
        };
        if (node["not"] is { } not) condition = condition with { Not = Comparands(not, path + ".not") };
        if (node["exists"] is { } exists)
        {
            if (exists.Kind != RuleNodeKind.Flag) Add(exists, path + ".exists", "must be true or false");
            else condition = condition with { Exists = exists.Flag };
            if (condition.Exists == false && node.Members.Count > 1)
            {
                Add(node, path, "can never match: a value that is absent compares with nothing");
            }
        }
        if (condition.AtLeast > condition.AtMost || condition.Above >= condition.Below || condition.AtLeast >= condition.Below
            || condition.Above >= condition.AtMost)
        {
            Add(node, path, "can never match: no number is in this range");
        }
        return mistakes.Count > before ? null : condition;
    }

    decimal? Number(RuleNode map, string path, string field)
    {
        if (map[field] is not { } node) return null;
        if (node.Kind == RuleNodeKind.Number) return node.Number;
        Add(node, $"{path}.{field}", "must be a number");
        return null;
    }

    IReadOnlyList<Comparand>? Comparands(RuleNode node, string path)
    {
        var items = node.Kind == RuleNodeKind.List ? node.Items : [node];
        if (items.Count is 0 or > MaxAlternatives)
        {
            Add(node, path, items.Count == 0 ? "can never match: the list is empty" : $"has more than {MaxAlternatives} alternatives");
            return null;
        }
        var comparands = new List<Comparand>();
        foreach (var item in items)
        {
            if (item.Kind is RuleNodeKind.Map or RuleNodeKind.List)
            {
                Add(item, path, "must be a text, a number, true or false");
                return null;
            }
            if (item.Kind == RuleNodeKind.Null)
            {
                Add(item, path, "compares with nothing; use { exists: false } for a value that is absent or null");
                return null;
            }
            comparands.Add(new Comparand(item.Text,
                item.Kind == RuleNodeKind.Number ? item.Number : null, item.Kind == RuleNodeKind.Flag ? item.Flag : null));
        }
        return comparands;
    }

    [GeneratedRegex("^[a-z0-9]{1,64}$")]
    private static partial Regex AttributeName();
}
