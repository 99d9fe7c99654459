namespace Rovett.Core.Ledgers.Commands.Spaces;

/// <summary>Another process serves a space from now on: its sessions end, to come back there, and nothing is remembered of it.</summary>
public sealed class LetGoCommand(string space) : LedgerCommand<bool>(space)
{
    internal override bool MayRevoke => true;

    internal override bool NeedsStore => false;

    /// <inheritdoc/>
    public override bool IsAlwaysTaken => true;

    internal override void Execute(Ledger ledger)
    {
        ledger.LetGo(Space);
        Answer = true;
    }
}
