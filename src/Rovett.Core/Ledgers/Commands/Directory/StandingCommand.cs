using Rovett.Core.Store;

namespace Rovett.Core.Ledgers.Commands.Directory;

/// <summary>Checks a credential, for requests that need nothing more from the ledger.</summary>
public sealed class StandingCommand(string space, Identity identity) : LedgerCommand<bool>(space)
{
    internal override bool MayOnlyRead => true;

    internal override void Execute(Ledger ledger)
    {
        var state = ledger.Space(Space);
        var user = Standing.Find(state, identity);
        if (identity.IssuedAtMicros > ledger.Now.Micros)
        {
            user ??= state.FindOrAdd(identity.User.Value);
            var row = Standing.Shown(user.Row, identity, ledger.Now);
            if (row != user.Row) ledger.Store.SavePerson(user.Row = row);
        }
        Answer = true;
    }
}

/// <summary>Signs a user out everywhere: ends sessions and refuses credentials made before now. Answers how
/// many sessions ended.</summary>
public sealed class SignOutCommand(string space, string userId) : LedgerCommand<(PersonRow Row, int Ended)>(space)
{
    internal override bool MayRevoke => true;

    internal override void Execute(Ledger ledger)
    {
        var state = ledger.Space(Space);
        var user = state.FindOrAdd(userId); // also one whose tokens were never shown here yet
        user.Row = Standing.SignedOut(user.Row, ledger.Now);
        int ended = Standing.EndSessions(ledger, state, user, "signed-out");
        Standing.Note(ledger, state, user, "signed-out");
        Answer = (user.Row, ended);
    }
}
