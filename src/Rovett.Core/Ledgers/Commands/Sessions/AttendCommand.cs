using Rovett.Core.Delivery;

namespace Rovett.Core.Ledgers.Commands.Sessions;

/// <summary>Sets the subject that a session's user is looking at. New notifications about it arrive read.</summary>
public sealed class AttendCommand(string space, UserState user, ISessionPort session, string? subject) : LedgerCommand<bool>(space)
{
    internal override void Execute(Ledger ledger)
    {
        var state = ledger.Space(Space);
        var present = user.Sessions.Exists(s => s.Session == session) ? user : state.Find(user.PersonId) ?? user;
        if (present.Sessions.Find(s => s.Session == session) is not { } place) return;
        var before = place.Attends;
        ledger.Undo(() => place.Attends = before);
        state.Connected.Attend(present, place, subject);
        Answer = true;
    }
}
