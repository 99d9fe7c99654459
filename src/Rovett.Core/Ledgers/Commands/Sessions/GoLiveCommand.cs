using Rovett.Core.Delivery;
using Rovett.Core.Nodes;

namespace Rovett.Core.Ledgers.Commands.Sessions;

/// <summary>Makes a session live that has read all its logs.</summary>
public sealed class GoLiveCommand(string space, string userId, ISessionPort session, int planVersion, long through)
    : LedgerCommand<bool>(space)
{
    internal override void Execute(Ledger ledger)
    {
        var state = ledger.Space(Space);
        if (state.Find(userId) is { } user && user.PlanVersion == planVersion && user.Sessions.Find(s => s.Session == session) is { } place
            && CatchUpFromMemory.Since(state, user, place, through) is { } rest)
        {
            state.Port.Add(
                new NodeLive(session, through, rest, state.Cursors.Seal(new Position(state.Head)), state.Head, Plans.TotalsOf(user)));
            Answer = true;
        }
        else state.Port.Add(new NodeBehind(session));
    }
}
