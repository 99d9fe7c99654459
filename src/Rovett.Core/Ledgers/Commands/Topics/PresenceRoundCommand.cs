namespace Rovett.Core.Ledgers.Commands.Topics;

/// <summary>Sends arrivals and departures since the last round to the sessions that watch presence.</summary>
public sealed class PresenceRoundCommand(string space) : LedgerCommand<bool>(space)
{
    internal override bool MayOnlyRead => true;

    internal override void Execute(Ledger ledger)
    {
        if (ledger.Known(Space) is not null) ledger.Space(Space).Presence.Round(ledger, ledger.Options.PresenceGrace);
    }
}
