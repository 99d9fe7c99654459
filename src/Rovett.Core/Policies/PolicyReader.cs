using System.Text.Json;
using Rovett.Core.Addresses;

namespace Rovett.Core.Policies;

/// <summary>Reads a document of policies: <c>{"policies":[{"name":…,"topic":…,"may":[…],"when":{…}}]}</c>.
/// Reports every mistake with its place.</summary>
public static class PolicyReader
{
    /// <summary>The most policies of a space.</summary>
    public const int MaxPolicies = 10_000;
    const int MaxValues = 100;
    static readonly string[] Members = ["name", "topic", "may", "never", "when", "ask", "shows"],
        Conditions = ["anyone", "role", "user", "claims", "variables"];

    /// <summary>Reads a document.</summary>
    /// <param name="root">The document.</param>
    /// <param name="errors">Receives the mistakes; the result is then meaningless.</param>
    public static PolicySet Read(JsonElement root, List<FieldError> errors)
    {
        if (root.ValueKind != JsonValueKind.Object || !root.TryGetProperty("policies", out var list)
            || list.ValueKind != JsonValueKind.Array || list.GetArrayLength() > MaxPolicies)
        {
            errors.Add(new FieldError("policies", $"must be an array of at most {MaxPolicies} policies: {{\"policies\":[…]}}"));
            return PolicySet.None;
        }
        foreach (var member in root.EnumerateObject())
        {
            if (member.Name != "policies")
            {
                errors.Add(new FieldError(member.Name, "is unknown; the document has one member: policies"));
            }
        }
        var policies = new List<Policy>();
        var names = new HashSet<string>();
        int i = 0;
        foreach (var item in list.EnumerateArray())
        {
            if (One(item, $"policies[{i++}]", errors) is not { } policy) continue;
            if (!names.Add(policy.Name))
            {
                errors.Add(new FieldError($"policies[{i - 1}].name",
                    $"'{policy.Name}' is the name of another policy too; give each its own"));
            }
            policies.Add(policy);
        }
        return new PolicySet(policies);
    }

    static Policy? One(JsonElement item, string path, List<FieldError> errors)
    {
        if (item.ValueKind != JsonValueKind.Object)
        {
            errors.Add(new FieldError(path, "must be an object"));
            return null;
        }
        int before = errors.Count;
        foreach (var member in item.EnumerateObject())
        {
            if (!Members.Contains(member.Name))
            {
                errors.Add(new FieldError($"{path}.{member.Name}",
                    $"is not a member of a policy; the members are {string.Join(", ", Members)}"));
            }
        }
        string name = "";
        if (!item.TryGetProperty("name", out var element) || !JsonText.TryString(element, out var text)
            || Names.Check(text, true, out name) is not null)
            errors.Add(new FieldError(path + ".name", "must be 1 to 128 characters by which explanations call it"));
        TopicPattern? pattern = null;
        if (!item.TryGetProperty("topic", out element) || !JsonText.TryString(element, out text))
        {
            errors.Add(new FieldError(path + ".topic", "must be a pattern of topics, such as berth/{berth}"));
        }
        else if (TopicPattern.TryParse(text, out pattern) is { } wrong) errors.Add(new FieldError(path + ".topic", wrong));
        bool forbids = item.TryGetProperty("never", out var rightsElement), allows = item.TryGetProperty("may", out var mayElement);
        if (forbids == allows) errors.Add(new FieldError(path + ".may", "give one of may (what it allows) and never (what it forbids)"));
        var rights = Rights(forbids ? rightsElement : mayElement, path + (forbids ? ".never" : ".may"), errors);
        string? ask = null;
        if (item.TryGetProperty("ask", out element))
        {
            if (!JsonText.TryString(element, out text) || Names.Check(text, false, out ask) is not null)
            {
                errors.Add(new FieldError(path + ".ask", "must be the name of a decider: PUT /v1/deciders/{name}"));
            }
            if (forbids) errors.Add(new FieldError(path + ".ask", "can't stand with never"));
        }
        bool countOnly = false;
        if (item.TryGetProperty("shows", out element))
        {
            countOnly = JsonText.TryString(element, out text) && text == "count";
            if (!countOnly && text != "people")
            {
                errors.Add(new FieldError(path + ".shows", "must be people (who is connected) or count (how many)"));
            }
            if (forbids || (rights & TopicRights.Presence) == 0) errors.Add(new FieldError(path + ".shows", "goes with may: [presence]"));
        }
        var variables = pattern?.Variables.ToList() ?? [];
        var when = item.TryGetProperty("when", out element) ? When(element, path + ".when", variables, pattern is null, errors) : null;
        if (when is null && errors.Count == before)
        {
            errors.Add(new FieldError(path + ".when", "is missing; say to whom it applies, or {\"anyone\":true} for every user"));
        }
        return errors.Count == before ? new Policy(name, pattern!, rights, forbids, when!, ask, countOnly) : null;
    }

    /// <summary>Reads an array of rights.</summary>
    public static TopicRights Rights(JsonElement element, string path, List<FieldError> errors)
    {
        var rights = TopicRights.None;
        bool sound = element.ValueKind == JsonValueKind.Array && element.GetArrayLength() > 0;
        foreach (var item in sound ? element.EnumerateArray().ToArray() : [])
        {
            var right = JsonText.TryString(item, out var name) ? RightNames.Parse(name) : TopicRights.None;
            sound &= right != TopicRights.None;
            rights |= right;
        }
        if (!sound && element.ValueKind != JsonValueKind.Undefined)
        {
            errors.Add(new FieldError(path, $"must be an array of {string.Join(", ", RightNames.All.Select(r => r.Name))}"));
        }
        return rights;
    }

    static PolicyConditions? When(JsonElement element, string path, IReadOnlyList<string> variables, bool anyVariable,
        List<FieldError> errors)
    {
        if (element.ValueKind != JsonValueKind.Object || !element.EnumerateObject().Any())
        {
            errors.Add(new FieldError(path, $"must be an object with at least one of {string.Join(", ", Conditions)}"));
            return null;
        }
        var when = new PolicyConditions();
        foreach (var member in element.EnumerateObject())
        {
            var field = $"{path}.{member.Name}";
            switch (member.Name)
            {
                case "anyone":
                    if (member.Value.ValueKind != JsonValueKind.True)
                    {
                        errors.Add(new FieldError(field, "can only be true; leave it out otherwise"));
                    }
                    when = when with { Anyone = true };
                    break;
                case "role": when = when with { Roles = Texts(member.Value, field, variables, anyVariable, errors) }; break;
                case "user": when = when with { Users = Texts(member.Value, field, variables, anyVariable, errors) }; break;
                case "claims" or "variables" when member.Value.ValueKind == JsonValueKind.Object:
                    var pairs = member.Value.EnumerateObject()
                        .Select(p => KeyValuePair.Create(p.Name, Texts(p.Value, $"{field}.{p.Name}", variables, anyVariable, errors)))
                        .ToList();
                    if (pairs.Count is 0 or > MaxValues) errors.Add(new FieldError(field, $"must have 1 to {MaxValues} members"));
                    if (member.Name == "claims") when = when with { Claims = [.. pairs.Select(p => new ClaimCondition(p.Key, p.Value))] };
                    else
                    {
                        foreach (var (name, _) in pairs.Where(p => !anyVariable && !variables.Contains(p.Key))) errors.Add(
                            new FieldError($"{field}.{name}", "is not a variable of the topic's pattern"));
                        when = when with { Variables = pairs };
                    }
                    break;
                case "claims":
                    errors.Add(new FieldError(field, "must be an object: a claim, or a JSON Pointer, and the values it may have"));
                    break;
                case "variables": errors.Add(new FieldError(field, "must be an object: a variable and the values it may have")); break;
                default:
                    errors.Add(new FieldError(field, $"is not a condition; the conditions are {string.Join(", ", Conditions)}"));
                    break;
            }
        }
        if (when.Anyone && element.EnumerateObject().Count() > 1)
        {
            errors.Add(new FieldError(path + ".anyone", "can't stand with other conditions"));
        }
        return when;
    }

    static IReadOnlyList<string> Texts(JsonElement element, string field, IReadOnlyList<string> variables, bool anyVariable,
        List<FieldError> errors)
    {
        var items = element.ValueKind == JsonValueKind.Array ? [.. element.EnumerateArray()] : new[] { element };
        var texts = new List<string>();
        if (items.Length is 0 or > MaxValues) errors.Add(new FieldError(field, $"must be a text, or an array of 1 to {MaxValues} texts"));
        foreach (var item in items)
        {
            if (!JsonText.TryString(item, out var text) || text.Length is 0 or > 256)
            {
                errors.Add(new FieldError(field, "must be a text of 1 to 256 characters, or an array of such texts"));
            }
            else if (!anyVariable && Templates.Mistake(text, variables) is { } wrong) errors.Add(new FieldError(field, wrong));
            else texts.Add(text.IsNormalized() ? text : text.Normalize());
        }
        return texts;
    }
}
