using Rovett.Core.Delivery;
using Rovett.Core.Nodes;

namespace Rovett.Core.Ledgers.Commands.Sessions;

/// <summary>Removes a session.</summary>
public sealed class DetachCommand(string space, UserState user, ISessionPort session) : LedgerCommand<bool>(space)
{
    /// <inheritdoc/>
    public override bool IsAlwaysTaken => true;

    internal override void Execute(Ledger ledger)
    {
        if (ledger.Known(Space) is null) return; // it was removed, or another process serves it: every session in it ended
        var state = ledger.Space(Space);
        // A failed commit may have put another object in the user's place.
        var present = user.Sessions.Exists(s => s.Session == session) ? user : state.Find(user.PersonId) ?? user;
        if (present.Sessions.Find(s => s.Session == session) is not { } place) return;
        state.Connected.Attend(present, place, null);
        state.Subscriptions.Leave(place);
        state.Presence.Leave(place);
        Answer = present.Sessions.Remove(place);
        state.Port.Add(new NodeLeave(present.Node, place.Session));
        if (present.Sessions.Count > 0)
        {
            state.Connected.Count(present);
            return;
        }
        state.Connected.Leave(present);
        state.UserLogs.Save(present);
    }

    /// <summary>The session is gone whether or not the commit succeeded.</summary>
    internal override void AfterFailure(Ledger ledger)
    {
        if (ledger.Known(Space) is not { } state) return;
        var present = state.Connected.All.FirstOrDefault(u => u.Sessions.Exists(s => s.Session == session));
        if (present?.Sessions.Find(s => s.Session == session) is not { } place) return;
        state.Connected.Attend(present, place, null);
        state.Subscriptions.Leave(place);
        state.Presence.Leave(place);
        present.Sessions.Remove(place);
        state.Port.Add(new NodeLeave(present.Node, place.Session));
        if (present.Sessions.Count > 0) state.Connected.Count(present);
        else state.Connected.Leave(present);
    }
}
