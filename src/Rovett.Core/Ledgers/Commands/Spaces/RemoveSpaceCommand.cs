namespace Rovett.Core.Ledgers.Commands.Spaces;

/// <summary>Removes a space and ends its sessions; <see cref="PurgeCommand"/> deletes what it stored. Answers how many
/// sessions ended.</summary>
public sealed class RemoveSpaceCommand(string name) : SteppedCommand<int>(name)
{
    internal override bool MayRevoke => true;

    // Unlike others it is decided with the last step, whose commit must last.
    internal override bool MaySyncLater => false;

    private protected override List<UserState> Begin(Ledger ledger, SpaceState space) => [.. space.WithSessions];

    private protected override List<UserState> BeginAgain(SpaceState space) => [.. space.WithSessions];

    private protected override bool Step(Ledger ledger, SpaceState space, UserState user)
    {
        Answer += Standing.EndSessions(ledger, space, user, "space-removed");
        return true;
    }

    private protected override void End(Ledger ledger, SpaceState space)
    {
        ledger.Store.RemoveSpace(space.Id);
        ledger.Forget(Space);
    }
}
