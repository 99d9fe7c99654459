namespace Rovett.Core.Ledgers.Commands.Spaces;

/// <summary>Removes a space and ends its sessions; <see cref="PurgeCommand"/> deletes what it stored. Answers how many
/// sessions ended.</summary>
public sealed class RemoveSpaceCommand(string name) : LedgerCommand<int>(name)
{
    internal override bool MayRevoke => true;

    internal override void Execute(Ledger ledger)
    {
        var state = ledger.Space(Space);
        foreach (var user in state.WithSessions.ToList()) Answer += Standing.EndSessions(ledger, state, user, "space-removed");
        ledger.Store.RemoveSpace(state.Id);
        ledger.Forget(Space);
    }
}
