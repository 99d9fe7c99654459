using Rovett.Core.Store;

namespace Rovett.Core.Ledgers.Commands.Directory;

/// <summary>The erasures under way in a space.</summary>
public sealed class ErasuresCommand(string space) : LedgerCommand<IReadOnlyList<ErasureRow>>(space)
{
    internal override bool MayOnlyRead => true;

    internal override void Execute(Ledger ledger) => Answer = ledger.Store.Erasures(ledger.Space(Space).Id);
}
