using Rovett.Core.Store;

namespace Rovett.Core.Ledgers.Commands.Directory;

/// <summary>Stores a role's settings.</summary>
public sealed class PutRoleCommand(string space, RoleRow role) : LedgerCommand<RoleRow>(space)
{
    internal override bool MayRevoke => true;

    internal override void Execute(Ledger ledger)
    {
        var state = ledger.Space(Space);
        ledger.Store.SaveRole(state.Id, role);
        state.Keep(role);
        Answer = role;
    }
}

/// <summary>Looks a role up: its settings, its holders, and how many of them are connected.</summary>
public sealed class FindRoleCommand(string space, string role) : LedgerCommand<(RoleRow? Row, long Users, long Connected)>(space)
{
    internal override bool MayOnlyRead => true;

    internal override void Execute(Ledger ledger)
    {
        var state = ledger.Space(Space);
        Answer = (state.Role(role), Math.Max(0, state.MembersOf("role:" + role)), state.Connected.With("role:" + role));
    }
}
