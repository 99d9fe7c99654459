using Rovett.Core.Delivery;

namespace Rovett.Core.Ledgers.Commands.Sessions;

/// <summary>Notes that a session stopped answering, or answers again.</summary>
public sealed class SilenceCommand(string space, UserState user, ISessionPort session, bool silent) : LedgerCommand<bool>(space)
{
    internal override void Execute(Ledger ledger)
    {
        var state = ledger.Space(Space);
        var present = user.Sessions.Exists(s => s.Session == session) ? user : state.Find(user.PersonId) ?? user;
        if (present.Sessions.Find(s => s.Session == session) is not { } place) return;
        place.Silent = silent;
        state.Connected.Count(present);
        Answer = true;
    }
}
