namespace Rovett.Core.Ledgers.Commands.Topics;

/// <summary>Tells the sessions that look who came and who left since the last round.</summary>
public sealed class PresenceRoundCommand(string space) : LedgerCommand<bool>
{
    internal override bool MayOnlyRead => true;

    internal override void Execute(Ledger ledger) => ledger.SpaceIfAny(space)?.Presence.Round(ledger, ledger.Options.PresenceGrace);
}
