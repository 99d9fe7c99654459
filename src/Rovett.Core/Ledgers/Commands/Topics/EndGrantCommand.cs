namespace Rovett.Core.Ledgers.Commands.Topics;

/// <summary>Ends a grant. Answers null when no grant with this id is in force.</summary>
public sealed class EndGrantCommand(string space, long number) : LedgerCommand<GrantInfo?>(space)
{
    internal override bool MayRevoke => true;

    internal override void Execute(Ledger ledger)
    {
        var state = ledger.Space(Space);
        if (ledger.Store.FindGrant(state.Id, number) is not { Ended: null } grant) return;
        Grants.End(ledger, state, grant, quietly: false);
        Answer = Grants.Info(ledger, grant, grant.Person == 0 ? null : state.Find(grant.Person)?.Id.Value);
    }
}
