using Rovett.Core.Nodes;

namespace Rovett.Core.Ledgers.Commands.Life;

/// <summary>Compares what the node has of connected users, their own changes and unread totals, with what the ledger has. What differs is
/// set right, and is a bug. Answers how many were compared.</summary>
/// <param name="space">The space's name.</param>
/// <param name="part">Of so many parts this one, by the users' numbers.</param>
/// <param name="of">How many parts there are.</param>
public sealed class CheckTotalsCommand(string space, int part = 0, int of = 1) : LedgerCommand<int>(space)
{
    internal override bool MayOnlyRead => true;

    internal override void Execute(Ledger ledger)
    {
        if (ledger.Known(Space) is null) return;
        var state = ledger.Space(Space);
        foreach (var user in state.Connected.All)
        {
            if (user.PersonId % of != part) continue;
            state.Port.Add(new NodeCheck(user.Node, user.Rev, user.CountUnread()));
            Answer++;
        }
    }
}
