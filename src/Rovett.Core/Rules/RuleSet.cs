using Rovett.Core.Catalogues;
using Rovett.Core.Events;

namespace Rovett.Core.Rules;

/// <summary>All rules of a space, as one version: compiled once, found by the type of event.</summary>
public sealed class RuleSet
{
    /// <summary>No rules: no event makes a notification.</summary>
    public static readonly RuleSet None = new([], []);

    readonly Dictionary<string, List<int>> byType = [];
    readonly Dictionary<string, List<int>>.AlternateLookup<ReadOnlySpan<char>> byPrefix;
    readonly Dictionary<string, List<int>> prefixes = [];
    readonly int[] prefixLengths;

    internal RuleSet(IReadOnlyList<Rule> rules, IReadOnlyList<RuleTest> tests)
    {
        All = rules;
        Tests = tests;
        for (int i = 0; i < rules.Count; i++)
        {
            foreach (var pattern in rules[i].Events)
            {
                var index = pattern.IsPrefix ? prefixes : byType;
                if (!index.TryGetValue(pattern.Stem, out var list)) index[pattern.Stem] = list = [];
                list.Add(i);
            }
        }
        byPrefix = prefixes.GetAlternateLookup<ReadOnlySpan<char>>();
        prefixLengths = [.. prefixes.Keys.Select(p => p.Length).Distinct().Order()];
    }

    /// <summary>Every rule, in the order written.</summary>
    public IReadOnlyList<Rule> All { get; }

    /// <summary>The tests beside them.</summary>
    public IReadOnlyList<RuleTest> Tests { get; }

    /// <summary>The catalogue beside them; null: the file has none.</summary>
    public Catalogue? Catalogue { get; init; }

    /// <summary>The webhooks and e-mail addresses that they name.</summary>
    public IReadOnlyList<OutboundUse> Outbound { get; init; } = [];

    /// <summary>The rules for a type of event, in the order written.</summary>
    public IEnumerable<Rule> For(string type)
    {
        byType.TryGetValue(type, out var exact);
        List<int>? found = null;
        foreach (int length in prefixLengths)
        {
            if (length > type.Length) break;
            if (!byPrefix.TryGetValue(type.AsSpan(0, length), out var more)) continue;
            found ??= exact is null ? [] : [.. exact];
            found.AddRange(more);
        }
        return (found is null ? (IEnumerable<int>?)exact ?? [] : found.Distinct().Order()).Select(i => All[i]);
    }

    /// <summary>Makes the notifications of an event: a result for each rule that matches, in the order written.</summary>
    public IReadOnlyList<RuleResult> Apply(IncomingEvent found, RuleSetting setting)
    {
        var results = new List<RuleResult>();
        foreach (var rule in For(found.Type))
        {
            if (rule.Matches(found)) results.Add(rule.Make(found, setting));
        }
        int drafts = results.Sum(r => r.Drafts.Count);
        return drafts <= Rule.MaxDrafts ? results
            : [.. results.Select(r => new RuleResult(r.Rule, [],
                $"the event makes {drafts} notifications; the limit is {Rule.MaxDrafts}"))];
    }

    /// <summary>The type nearest to one that no rule is for; null: none is near, or a rule is for it.</summary>
    public string? Nearest(string type)
    {
        if (For(type).Any()) return null;
        var types = All.SelectMany(r => r.Events).Select(e => e.Text).Distinct().ToList();
        if (NearNames.Among(types, type) is [var near, ..]) return near;
        var parts = type.Split('.');
        for (int n = parts.Length - 1; n > 0; n--)
        {
            var start = string.Join('.', parts[..n]) + ".";
            if (types.Find(t => t.StartsWith(start, StringComparison.Ordinal)) is { } sibling) return sibling;
        }
        return null;
    }
}
