namespace Rovett.Core.Ledgers.Commands.Topics;

/// <summary>Ends a grant. Answers null when no grant with this id is in force.</summary>
public sealed class EndGrantCommand(string space, long number) : SteppedCommand<GrantInfo?>(space)
{
    long position;

    internal override bool MayRevoke => true;

    private protected override bool ChangesRights => Answer?.Grant.Role.Length > 0;

    private protected override List<UserState> Begin(Ledger ledger, SpaceState state)
    {
        if (ledger.Store.FindGrant(state.Id, number) is not { Ended: null } grant) return [];
        position = Grants.End(ledger, state, grant, quietly: false);
        Answer = Grants.Info(ledger, grant, grant.Person == 0 ? null : state.Find(grant.Person)?.Id.Value);
        return Grants.Changed(ledger, state, grant, position);
    }

    private protected override bool Step(Ledger ledger, SpaceState state, UserState user) =>
        Grants.Look(ledger, state, user, Answer!.Grant, position);
}
