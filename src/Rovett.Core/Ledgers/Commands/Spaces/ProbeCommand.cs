namespace Rovett.Core.Ledgers.Commands.Spaces;

/// <summary>Finds out whether the store takes writes, by a write that changes nothing.</summary>
public sealed class ProbeCommand(string space) : LedgerCommand<bool>(space)
{
    internal override bool ShowsStoreWorks => true;

    internal override void Execute(Ledger ledger)
    {
        var state = ledger.Space(Space);
        // A row that is written as it was is not written at all.
        ledger.Store.SaveFloor(state.Id, state.Floor + 1);
        ledger.Store.SaveFloor(state.Id, state.Floor);
        Answer = true;
    }
}
