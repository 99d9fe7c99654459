using Rovett.Core.Addresses;
using Rovett.Core.Ledgers.Commands.Topics;
using Rovett.Core.Policies;
using Rovett.Service.Credentials;
using Rovett.Service.Http;
using Rovett.Service.Ledgers;
using Rovett.Service.Spaces;

namespace Rovett.Service.Endpoints.Backend;

/// <summary>Why a user does or does not hear of what is sent to an address.</summary>
public sealed class ExplainApi(LedgerPump ledger)
{
    /// <summary>Explains who may do what.</summary>
    /// <remarks>Whether a user is on an address's channel, each step that leads to it, and what would change it; for a
    /// topic, the same for each right.</remarks>
    public Task<ExplainAnswer> Explain(HttpContext context, Given<ExplainQuery> query) => Of(context.KeyCaller().Space, query);

    /// <summary>The explanation in a space.</summary>
    internal async Task<ExplainAnswer> Of(SpaceRuntime space, Given<ExplainQuery> query)
    {
        if (Names.Check(query.Value.User ?? "", false, out var user) is { } wrong) query.Wrong("user", wrong);
        if (Address.TryParse(query.Value.On ?? "", out var address) is { } bad) query.Wrong("on", bad);
        query.Sound("Correct the named query parameters: ?user=teo&on=topic:berth/3");
        var explanation = await ledger.Ask(new ExplainCommand(space.Name, user, address));
        return new ExplainAnswer
        {
            User = user,
            On = address.ToString(),
            OnChannel = explanation.OnChannel,
            Steps = Steps(explanation.Steps),
            Rights = explanation.Rights.Count == 0 ? null : [.. explanation.Rights.Select(r => new RightExplained
            {
                Right = RightNames.Of(r.Right).First(),
                Decision = r.Decision.Allowed ? "allow" : r.Decision.Ask is not null ? "ask" : "deny",
                By = r.Decision.By.Length > 0 ? r.Decision.By
                    : r.Decision.Ask is { } asked ? $"{PolicySet.Called(asked)} asks the decider '{asked.Ask}'"
                    : "no policy or grant allows it",
                Steps = Steps(r.Steps),
            })],
        };
    }

    static IReadOnlyList<ExplainStep> Steps(IReadOnlyList<DecisionStep> steps) => [.. steps.Select(s =>
        new ExplainStep { What = s.What, Outcome = s.Outcome, Why = s.Why, Fix = s.Fix.Length > 0 ? s.Fix : null })];
}
