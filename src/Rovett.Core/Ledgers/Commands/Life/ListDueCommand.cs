using Rovett.Core.Store;

namespace Rovett.Core.Ledgers.Commands.Life;

/// <summary>Lists due work, the earliest first.</summary>
public sealed class ListDueCommand(string space, int limit) : LedgerCommand<IReadOnlyList<DueRow>>(space)
{
    internal override bool MayOnlyRead => true;

    internal override void Execute(Ledger ledger)
    {
        var state = ledger.Space(Space);
        Answer = ledger.Store.Due(state.Id, state.Due, limit);
    }
}
