using System.Text.Json;
using Rovett.Core.Events;

namespace Rovett.Core.Rules;

/// <summary>A test beside the rules: an event, and the notifications expected of it.</summary>
/// <param name="Line">Its line in the file.</param>
/// <param name="Given">The event.</param>
/// <param name="Expect">The notifications, in order: members to compare, and <c>rule</c>.</param>
public sealed record RuleTest(int Line, IncomingEvent Given, IReadOnlyList<JsonElement> Expect)
{
    /// <summary>Runs it.</summary>
    /// <param name="rules">The rules.</param>
    /// <param name="setting">What they take into account.</param>
    /// <returns>Each difference in words; none: it passes.</returns>
    public IReadOnlyList<string> Run(RuleSet rules, RuleSetting setting)
    {
        var differences = new List<string>();
        var made = new List<(Rule Rule, JsonElement Body, bool Gathers)>();
        foreach (var result in rules.Apply(Given, setting))
        {
            if (result.Failure is { } failure) differences.Add($"rule '{result.Rule.Name}' fails: {failure}");
            foreach (var draft in result.Drafts)
            {
                made.Add((result.Rule, JsonElement.Parse(draft.Body), result.Rule.GathersFor is not null));
            }
        }
        for (int i = 0; i < Math.Max(made.Count, Expect.Count); i++)
        {
            if (i >= Expect.Count)
            {
                differences.Add($"makes one notification more than expected: rule '{made[i].Rule.Name}', to "
                    + $"{made[i].Body.GetProperty("to").GetRawText()}, {made[i].Body.GetProperty("title").GetRawText()}");
            }
            else if (i >= made.Count)
            {
                differences.Add($"expect[{i}] is not made{WhyNot(rules, Expect[i])}");
            }
            else Compare(i, Expect[i], made[i], differences);
        }
        return differences;
    }

    string WhyNot(RuleSet rules, JsonElement expected)
    {
        if (!expected.TryGetProperty("rule", out var name)) return "";
        var rule = rules.All.FirstOrDefault(r => r.Name == name.GetString());
        if (rule is null) return $": no rule is called '{name.GetString()}'";
        if (!rules.For(Given.Type).Contains(rule)) return $": rule '{rule.Name}' is not for {Given.Type}";
        return rule.WhyNot(Given) is { } why ? $": rule '{rule.Name}' does not match, because {why}" : "";
    }

    static void Compare(int number, JsonElement expected, (Rule Rule, JsonElement Body, bool Gathers) made, List<string> differences)
    {
        foreach (var member in expected.EnumerateObject())
        {
            if (member.Name == "rule")
            {
                if (member.Value.GetString() != made.Rule.Name)
                {
                    differences.Add($"expect[{number}].rule is '{made.Rule.Name}', not '{member.Value.GetString()}'");
                }
            }
            else if (member.Name == "gathers")
            {
                if (member.Value.GetBoolean() != made.Gathers)
                {
                    differences.Add($"expect[{number}].gathers is {(made.Gathers ? "true" : "false")}");
                }
            }
            else if (!made.Body.TryGetProperty(member.Name, out var actual))
            {
                differences.Add($"expect[{number}].{member.Name} is absent, not {member.Value.GetRawText()}");
            }
            else if (!JsonElement.DeepEquals(actual, member.Value))
            {
                differences.Add($"expect[{number}].{member.Name} is {actual.GetRawText()}, not {member.Value.GetRawText()}");
            }
        }
    }
}
