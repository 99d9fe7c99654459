using Rovett.Core.Visibility;

namespace Rovett.Core.Ledgers.Commands.Sessions;

/// <summary>What a user may read, for somebody else who looks; null when the id is unknown.</summary>
public sealed class PlanOfCommand(string space, string user) : LedgerCommand<ReadPlan?>(space)
{
    internal override bool MayOnlyRead => true;

    internal override void Execute(Ledger ledger)
    {
        var state = ledger.Space(Space);
        Answer = state.Find(user) is { } found ? Plans.For(state, found) : null;
    }
}
