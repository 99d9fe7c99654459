namespace Rovett.Core.Ledgers.Commands.Sessions;

/// <summary>Asks for the newest position of a space.</summary>
public sealed class HeadCommand(string space) : LedgerCommand<Position>(space)
{
    internal override bool MayOnlyRead => true;

    internal override void Execute(Ledger ledger) => Answer = new Position(ledger.Space(Space).Head);
}
