namespace Rovett.Core.Ledgers.Commands.Spaces;

/// <summary>Deletes part of the data of removed spaces. Answers false when nothing is left.</summary>
public sealed class PurgeCommand(int limit = 500) : LedgerCommand<bool>(null)
{
    internal override bool MayOnlyRead => true;

    internal override void Execute(Ledger ledger)
    {
        Answer = ledger.Store.Purge(limit);
        if (!Answer) ledger.NothingToPurge();
    }
}
