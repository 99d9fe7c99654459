namespace Rovett.Core.Ledgers.Commands.Spaces;

/// <summary>Lets go a part of what removed spaces stored. Answers false when nothing is left of them.</summary>
public sealed class PurgeCommand(int limit = 500) : LedgerCommand<bool>
{
    internal override bool MayOnlyRead => true;

    internal override void Execute(Ledger ledger) => Answer = ledger.Store.Purge(limit);
}
