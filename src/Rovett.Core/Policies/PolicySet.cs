namespace Rovett.Core.Policies;

/// <summary>All policies of a space, as one version. Rights that no policy or grant allows are refused; rights that a policy
/// forbids are refused whatever else allows them.</summary>
public sealed class PolicySet
{
    /// <summary>No policies: nothing is allowed.</summary>
    public static readonly PolicySet None = new([]);

    readonly Dictionary<string, List<Policy>> byFirstPart = [];
    readonly List<Policy> others = [];

    /// <summary>Creates a version.</summary>
    public PolicySet(IReadOnlyList<Policy> policies)
    {
        All = policies;
        foreach (var policy in policies)
        {
            if (policy.Topic.FirstPart is not { } first) others.Add(policy);
            else if (byFirstPart.TryGetValue(first, out var list)) list.Add(policy);
            else byFirstPart[first] = [policy];
        }
        ClaimPaths = [.. policies.SelectMany(p => p.When.Claims).Select(c => c.Path).Distinct().Order(StringComparer.Ordinal)];
    }

    /// <summary>Every policy, in the order written.</summary>
    public IReadOnlyList<Policy> All { get; }

    /// <summary>The claims that policies look at.</summary>
    public IReadOnlyList<string> ClaimPaths { get; }

    /// <summary>Whether any policy is about a topic.</summary>
    public bool Covers(string topic) => Matching(topic).Any();

    /// <summary>Decides one right.</summary>
    /// <param name="facts">The user's facts.</param>
    /// <param name="topic">The topic, in its one form.</param>
    /// <param name="right">One right.</param>
    /// <param name="grants">The grants in force on the topic, to the user and to the user's roles.</param>
    /// <param name="steps">Filled with the steps of the decision; may be null.</param>
    public Decision Decide(IUserFacts facts, string topic, TopicRights right, IEnumerable<Grant> grants, List<DecisionStep>? steps = null)
    {
        Decision? decided = null;
        Policy? ask = null;
        var matching = Matching(topic).Where(m => (m.Policy.Rights & right) != 0).ToList();
        foreach (var (policy, values) in matching.Where(m => m.Policy.Forbids))
        {
            bool holds = Holds(policy, facts, values, steps, "forbids");
            if (!holds) continue;
            decided ??= new Decision(false, Called(policy));
            if (steps is null) return decided.Value;
        }
        // For presence, a policy that shows people outranks one that shows only their number.
        foreach (var (policy, values) in matching.Where(m => !m.Policy.Forbids).OrderBy(m => m.Policy.CountOnly))
        {
            if (!Holds(policy, facts, values, steps, policy.Ask is null ? "allows" : "asks")) continue;
            if (policy.Ask is null) decided ??= new Decision(true, Called(policy), CountOnly: policy.CountOnly);
            else ask ??= policy;
            if (steps is null && decided is not null) return decided.Value;
        }
        foreach (var grant in grants)
        {
            if ((grant.Rights & right) == 0) continue;
            // A decider's answer counts only while the policy asks that decider.
            var asking = grant.Policy.Length == 0
                ? null
                : matching.Find(
                m => m.Policy.Name == grant.Policy && m.Policy.Ask is not null && Holds(m.Policy, facts, m.Values, null, "")).Policy;
            if (grant.Policy.Length > 0 && asking is null) continue;
            var by = grant.Policy.Length > 0 ? $"the backend's answer to policy '{grant.Policy}'" : $"grant {grant.Number}";
            steps?.Add(new DecisionStep(by, "allows",
                (grant.Role.Length > 0 ? $"to the role '{grant.Role}'" : "to this user") +
                (grant.Until is { } until ? $", until {until}" : ""),
                grant.Policy.Length > 0 ? "" : $"DELETE /v1/grants/{grant.Number} ends it"));
            decided ??= new Decision(true, by, null, grant.Profile, asking?.CountOnly == true); // and shows what the policy shows
        }
        if (decided is null && steps is not null && matching.Count == 0)
            steps.Add(new DecisionStep("policies", "does not apply",
                $"none of {All.Count} is about {RightNames.Of(right).First()} on 'topic:{topic}'",
                $"add a policy whose topic matches '{topic}', or give a grant: POST /v1/grants"));
        return decided ?? new Decision(false, "", ask);
    }

    IEnumerable<(Policy Policy, IReadOnlyDictionary<string, string> Values)> Matching(string topic)
    {
        int slash = topic.IndexOf('/', StringComparison.Ordinal);
        foreach (var policy in byFirstPart.GetValueOrDefault(slash < 0 ? topic : topic[..slash]) ?? [])
        {
            if (policy.Topic.Match(topic) is { } values) yield return (policy, values);
        }
        foreach (var policy in others)
        {
            if (policy.Topic.Match(topic) is { } values) yield return (policy, values);
        }
    }

    /// <summary>The name of a policy in explanations.</summary>
    public static string Called(Policy policy) => $"policy '{policy.Name}'";

    static bool Holds(Policy policy, IUserFacts facts, IReadOnlyDictionary<string, string> values, List<DecisionStep>? steps,
        string outcome)
    {
        var wrong = Unmet(policy, facts, values);
        if (steps is not null)
        {
            var matched = values.Count == 0 ? $"'{policy.Topic.Text}'"
                : $"'{policy.Topic.Text}' with {string.Join(", ", values.Select(v => $"{v.Key}={v.Value}"))}";
            steps.Add(wrong is var (why, fix)
                ? new DecisionStep(Called(policy), "does not apply", $"{matched}: {why}", outcome == "forbids" ? "" : fix)
                : new DecisionStep(Called(policy), outcome, matched,
                outcome == "forbids" ? "no grant and no other policy can overrule it; narrow its conditions" : ""));
        }
        return wrong is null;
    }

    /// <summary>The first condition that does not match, with a fix; null: all match.</summary>
    static (string Why, string Fix)? Unmet(Policy policy, IUserFacts facts, IReadOnlyDictionary<string, string> values)
    {
        var when = policy.When;
        foreach (var (name, allowed) in when.Variables)
        {
            if (!Filled(allowed).Contains(values[name]))
            {
                return ($"applies only when {name} is {string.Join(", ", Filled(allowed))}",
                    $"add '{values[name]}' to the policy's values of {name}");
            }
        }
        if (when.Users.Count > 0 && !Filled(when.Users).Contains(facts.User))
        {
            return ($"the user is not {Or(Filled(when.Users))}", "add the user to the policy, or give a grant");
        }
        if (when.Roles.Count > 0 && !Filled(when.Roles).Any(facts.HoldsRole))
        {
            return ($"the user does not have {Or(Filled(when.Roles))}", $"give the user the role {Or(Filled(when.Roles))}");
        }
        foreach (var claim in when.Claims)
        {
            var has = facts.Claim(claim.Path);
            if (!Filled(claim.Values).Any(has.Contains))
            {
                var required = Or(Filled(claim.Values));
                return (has.Count == 0
                    ? $"claim '{claim.Path}' is missing; {required} required"
                    : $"claim '{claim.Path}' is {string.Join(", ", has)}; {required} required",
                    $"issue a token with {claim.Path} {required}");
            }
        }
        return null;

        IEnumerable<string> Filled(IReadOnlyList<string> texts) => texts.Select(t => Templates.Fill(t, values));
        static string Or(IEnumerable<string> texts) => string.Join(" or ", texts);
    }
}
