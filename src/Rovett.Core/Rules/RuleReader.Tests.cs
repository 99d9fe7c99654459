using System.Text.Json;
using Rovett.Core.Events;
using Rovett.Core.Yaml;

namespace Rovett.Core.Rules;

/// <summary>The tests beside the rules.</summary>
public sealed partial class RuleReader
{
    static readonly string[] Expected = ["rule", "gathers", "to", "except", "type", "subject", "title", "body", "link", "data", "urgency",
        "ttl", "slot", "store", "takeable", "deadlines", "always", "carry"];

    List<RuleTest> Tests(RuleNode? list)
    {
        var tests = new List<RuleTest>();
        if (list is null) return tests;
        if (list.Kind != RuleNodeKind.List || list.Items.Count > MaxTests)
        {
            Add(list, "tests", $"must be a list of at most {MaxTests} tests");
            return tests;
        }
        for (int i = 0; i < list.Items.Count; i++)
        {
            var path = $"tests[{i}]";
            var node = list.Items[i];
            int before = mistakes.Count;
            if (!IsMap(node, path, ["given", "expect"])) continue;
            IncomingEvent? given = null;
            if (node["given"] is not { } g) Add(node, path + ".given", "is missing; it is the event of the test");
            else given = Given(g, path + ".given", i);
            var expect = new List<JsonElement>();
            if (node["expect"] is not { Kind: RuleNodeKind.List } e)
            {
                Add(node["expect"] ?? node, path + ".expect", "must be a list of the notifications expected; [] for none");
            }
            else
            {
                foreach (var item in e.Items)
                {
                    if (IsMap(item, path + ".expect", Expected) && IsExpectation(item, path + ".expect")) expect.Add(item.ToJson());
                }
            }
            if (mistakes.Count == before) tests.Add(new RuleTest(node.Line, given!, expect));
        }
        return tests;
    }

    bool IsExpectation(RuleNode node, string path)
    {
        if (node["rule"] is { Kind: not RuleNodeKind.Text } rule) Add(rule, path + ".rule", "must be the name of a rule");
        else if (node["gathers"] is { Kind: not RuleNodeKind.Flag } gathers) Add(gathers, path + ".gathers", "must be true or false");
        else return true;
        return false;
    }

    IncomingEvent? Given(RuleNode node, string path, int number)
    {
        if (node.Kind != RuleNodeKind.Map)
        {
            Add(node, path, "must be an event: a mapping with type, source and data");
            return null;
        }
        var attributes = new Dictionary<string, string> { ["specversion"] = "1.0", ["id"] = $"test-{number + 1}" };
        JsonElement? data = null;
        foreach (var member in node.Members)
        {
            if (member.Name == "data") data = member.Value.ToJson();
            else if (!AttributeName().IsMatch(member.Name)
                || member.Value.Kind is RuleNodeKind.List or RuleNodeKind.Map or RuleNodeKind.Null)
            {
                mistakes.Add(RuleMistake.At(member, $"{path}.{member.Name}", "must be an attribute (a-z, 0-9) with a text, or 'data'"));
            }
            else attributes[member.Name] = member.Value.Text;
        }
        foreach (var required in new[] { "type", "source" })
        {
            if (!attributes.TryGetValue(required, out var text) || text.Length == 0) Add(node, $"{path}.{required}", "is missing");
        }
        if (!attributes.TryGetValue("type", out var type) || !attributes.ContainsKey("source")) return null;
        foreach (var wrong in catalogue.MistakesIn(type, data, isStrict: false)) Add(node, $"{path}.{wrong.Field}", wrong.Detail);
        return new IncomingEvent(attributes, data);
    }
}
