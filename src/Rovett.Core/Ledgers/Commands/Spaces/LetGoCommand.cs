namespace Rovett.Core.Ledgers.Commands.Spaces;

/// <summary>Another process serves a space from now on: its sessions end, to come back there, and nothing is remembered of it.</summary>
/// <param name="space">The space's name.</param>
/// <param name="isGivenUp">It is answered once the sessions that other nodes hold are told nothing more.</param>
public sealed class LetGoCommand(string space, bool isGivenUp = true) : LedgerCommand<bool>(space)
{
    internal override bool MayRevoke => isGivenUp;

    internal override bool NeedsStore => false;

    /// <inheritdoc/>
    public override bool IsAlwaysTaken => true;

    internal override void Execute(Ledger ledger)
    {
        ledger.LetGo(Space);
        Answer = true;
    }
}
