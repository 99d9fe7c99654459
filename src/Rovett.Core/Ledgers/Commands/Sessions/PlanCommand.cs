using Rovett.Core.Delivery;
using Rovett.Core.Visibility;

namespace Rovett.Core.Ledgers.Commands.Sessions;

/// <summary>Asks for a fresh plan: for a session that fell behind.</summary>
/// <param name="space">The space's name.</param>
/// <param name="userId">The user's id.</param>
/// <param name="session">The session; null for the user's inbox.</param>
public sealed class PlanCommand(string space, string userId, ISessionPort? session = null) : LedgerCommand<ReadPlan?>(space)
{
    internal override bool MayOnlyRead => true;

    internal override void Execute(Ledger ledger)
    {
        var state = ledger.Space(Space);
        Answer = state.Find(userId) is { } user ? Plans.For(state, user, user.Sessions.Find(s => s.Session == session)) : null;
    }
}
