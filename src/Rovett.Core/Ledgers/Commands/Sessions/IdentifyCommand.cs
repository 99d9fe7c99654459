using Rovett.Core.Store;
using Rovett.Core.Visibility;

namespace Rovett.Core.Ledgers.Commands.Sessions;

/// <summary>Takes a credential into account for a request that is not live.</summary>
/// <param name="space">The space's name.</param>
/// <param name="identity">The user and the credential.</param>
public sealed class IdentifyCommand(string space, Identity identity) : LedgerCommand<UserState>(space)
{
    bool mustLast;

    internal override bool MayOnlyRead => true;

    internal override bool MaySyncLater => true;

    internal override bool MustLast => mustLast;

    internal override void Needs(AheadList ahead) => ahead.Add(identity.User.Value);

    internal override void Execute(Ledger ledger) => Answer = Identification.Take(ledger, ledger.Space(Space), identity, out mustLast);
}

/// <summary>The same, and answers what the user may read.</summary>
/// <param name="space">The space's name.</param>
/// <param name="identity">The user and the credential.</param>
/// <param name="withSubscribed">With what the user's sessions have only subscribed to.</param>
public sealed class IdentifyAndPlanCommand(string space, Identity identity, bool withSubscribed = false) : LedgerCommand<ReadPlan>(space)
{
    bool mustLast;

    internal override bool MayOnlyRead => true;

    internal override bool MaySyncLater => true;

    internal override bool MustLast => mustLast;

    internal override void Needs(AheadList ahead) => ahead.Add(identity.User.Value);

    internal override void Execute(Ledger ledger)
    {
        var state = ledger.Space(Space);
        var user = Identification.Take(ledger, state, identity, out mustLast);
        Answer = Plans.For(state, user);
        if (!withSubscribed) return;
        var more = user.Sessions.Where(s => s.SubscribedLogs.Count > 0).SelectMany(s => Plans.For(state, user, s).Logs);
        Answer = Answer with { Logs = [.. Answer.Logs.Concat(more).DistinctBy(l => l.Log)] };
    }
}
