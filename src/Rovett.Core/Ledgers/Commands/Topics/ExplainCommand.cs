using Rovett.Core.Addresses;
using Rovett.Core.Policies;

namespace Rovett.Core.Ledgers.Commands.Topics;

/// <summary>Why a user is, or is not, on a channel.</summary>
/// <param name="OnChannel">What is sent to the address reaches the user now: durably, or (a topic that is only subscribed to) live.</param>
/// <param name="Steps">The steps of the decision.</param>
/// <param name="Rights">For a topic: what is decided of each right.</param>
public sealed record Explanation(bool OnChannel, IReadOnlyList<DecisionStep> Steps, IReadOnlyList<RightExplained> Rights);

/// <summary>The decision on one right on a topic.</summary>
public sealed record RightExplained(TopicRights Right, Decision Decision, IReadOnlyList<DecisionStep> Steps);

/// <summary>Explains whether a user is on an address's channel: each step that leads to it, and what would change it.</summary>
public sealed class ExplainCommand(string space, string userId, Address address) : LedgerCommand<Explanation>(space)
{
    internal override bool MayOnlyRead => true;

    internal override void Execute(Ledger ledger)
    {
        var state = ledger.Space(Space);
        var steps = new List<DecisionStep>();
        if (state.Find(userId) is not { IsKnown: true } user)
        {
            steps.Add(new DecisionStep($"user '{userId}'", "does not apply",
                "has never connected and is not in the directory",
                "check the id; PUT /v1/users/{id} makes the user known"));
            Answer = new Explanation(false, steps, []);
            return;
        }
        steps.Add(user.Row.Blocked
            ? new DecisionStep("user", "forbids", "the user is blocked: no credential is let in",
            "PUT /v1/users/{id} with \"blocked\": false")
            : new DecisionStep("user", "allows", user.Row.ValidFrom > 0
            ? $"credentials made since {new StoredTime(user.Row.ValidFrom)} are accepted"
            : "known, not blocked", ""));
        var rights = new List<RightExplained>();
        bool on = address.Kind switch
        {
            AddressKind.User => Personal(user, steps),
            AddressKind.Topic => Topic(state, user, steps, rights),
            _ => Role(ledger, user, steps),
        };
        Answer = new Explanation(on && !user.Row.Blocked, steps, rights);
    }

    bool Personal(UserState user, List<DecisionStep> steps)
    {
        bool own = address.Name == user.Id.Value;
        steps.Add(own ? new DecisionStep(address.ToString(), "allows", "it is the user's own", "")
            : new DecisionStep(address.ToString(), "forbids", "a personal channel is one user's only",
            "send to the user, or to a role or topic of both"));
        return own;
    }

    bool Role(Ledger ledger, UserState user, List<DecisionStep> steps)
    {
        var text = address.ToString();
        bool holds = user.Holds(text);
        if (address.Kind == AddressKind.Everyone)
        {
            steps.Add(new DecisionStep(text, "allows", "every known user is on it", ""));
            return holds;
        }
        var from = ledger.Options.RolesFrom;
        bool inToken = user.Row.TokenRoles.Contains(address.Name), inDirectory = user.Row.DirectoryRoles.Contains(address.Name);
        steps.Add(new DecisionStep("the newest token",
            from == RolesFrom.Directory ? "does not apply" : inToken ? "allows" : "does not apply",
            from == RolesFrom.Directory ? "roles in tokens do not count here (rolesFrom: directory)" : user.Row.RolesIssuedAt == 0
            ? "none was shown that speaks of roles"
            : $"made {new StoredTime(user.Row.RolesIssuedAt)}, names " +
            $"{(user.Row.TokenRoles.Count == 0 ? "no role" : string.Join(", ", user.Row.TokenRoles))}",
            inToken || from == RolesFrom.Directory ? "" : "show a newer token that names the role"));
        steps.Add(new DecisionStep("the directory", from == RolesFrom.Token ? "does not apply" : inDirectory ? "allows" : "does not apply",
            from == RolesFrom.Token ? "roles in the directory do not count here (rolesFrom: token)"
            : $"names {(user.Row.DirectoryRoles.Count == 0 ? "no role" : string.Join(", ", user.Row.DirectoryRoles))}",
            inDirectory || from == RolesFrom.Token ? "" : "PUT /v1/users/{id} with the role in \"roles\""));
        if (user.Memberships.FindLast(m => m.Address == text && m.Until is null) is { } open)
        {
            steps.Add(new DecisionStep(text, "allows", $"held; what was stored after position {open.After} is the user's to see", ""));
        }
        else if (user.Memberships.FindLast(m => m.Address == text) is { } closed)
        {
            steps.Add(new DecisionStep(text, "does not apply", $"lost at position {closed.Until}", ""));
        }
        return holds;
    }

    bool Topic(SpaceState state, UserState user, List<DecisionStep> steps, List<RightExplained> rights)
    {
        foreach (var (right, _) in RightNames.All)
        {
            var led = new List<DecisionStep>();
            rights.Add(new RightExplained(right, state.Topics.Decide(user, address.Name, right, null, led), led));
        }
        bool holds = user.Holds(address.ToString());
        steps.Add(!user.Follows.ContainsKey(address.Name)
            ? new DecisionStep("follow", "does not apply", "the user does not follow the topic",
            "the user's device says follow, or POST /v1/follows")
            : holds ? new DecisionStep("follow", "allows", "the user follows the topic", "")
            : new DecisionStep("follow", "does not apply", "the user follows the topic and may not: nothing of it is sent",
            "see the right to follow"));
        int sessions = user.Sessions.Count(s => s.Topics.ContainsKey(address.Name));
        steps.Add(new DecisionStep("subscribe", sessions > 0 ? "allows" : "does not apply",
            $"{sessions} of {user.Sessions.Count} live sessions have subscribed to it", ""));
        return holds || sessions > 0;
    }
}
