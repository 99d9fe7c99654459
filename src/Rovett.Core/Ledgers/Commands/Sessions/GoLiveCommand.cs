using Rovett.Core.Delivery;

namespace Rovett.Core.Ledgers.Commands.Sessions;

/// <summary>Makes a session live that has read all its logs.</summary>
public sealed class GoLiveCommand(string space, string userId, Session session, int planVersion) : LedgerCommand<bool>(space)
{
    internal override void Execute(Ledger ledger)
    {
        var state = ledger.Space(Space);
        if (state.Find(userId) is { } user && user.PlanVersion == planVersion && user.Sessions.Find(s => s.Session == session) is { } place
            && CatchUpFromMemory.Since(state, user, place, session.Through) is { } rest)
        {
            if (session.EnterLive(rest, state.Cursors.Seal(new Position(state.Head)), state.Head, Plans.TotalsOf(user, user.Unread)))
            {
                ledger.FlushLater(session);
            }
            Answer = true;
        }
        else session.StayBehind();
    }
}
