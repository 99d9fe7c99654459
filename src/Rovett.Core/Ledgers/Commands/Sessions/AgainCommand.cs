using Rovett.Core.Delivery;
using Rovett.Core.Visibility;
using Rovett.Core.Wire;

namespace Rovett.Core.Ledgers.Commands.Sessions;

/// <summary>Of some notifications, those the user may still be sent, with the address that reaches the user.</summary>
public sealed class AgainCommand(string space, UserState user, ISessionPort session, IReadOnlyList<AgainItem> items)
    : LedgerCommand<(IReadOnlyList<(AgainItem Item, EntryWire Wire)> Found, int PlanVersion, Totals Totals)>(space)
{
    internal override bool MayOnlyRead => true;

    internal override void Execute(Ledger ledger)
    {
        var state = ledger.Space(Space);
        var present = state.Find(user.PersonId) ?? user; // a failed commit may have put another object in the user's place
        state.UserLogs.Ensure(present);
        var found = new List<(AgainItem, EntryWire)>();
        foreach (var item in items)
        {
            var own = present.Logs!.Find(l => l.Log.Id == item.Log);
            var log = own ?? present.Sessions.Find(s => s.Session == session)?.SubscribedLogs
                .FirstOrDefault(w => w.Seen.Log.Id == item.Log)?.Seen;
            if (log is null || log.SegmentOf(item.Ordinal) is not { } segment) continue;
            var entry = state.Recent.Find(item.Position);
            if (entry is null && ledger.Store.FindEntry(state.Id, item.Position) is { } row)
            {
                entry = new OutgoingEntry(row.Kind, row.Position, row.Time, row.Id, state.Cursors.Seal(row.Position), row.Body);
            }
            if (entry is not null)
            {
                found.Add((item, entry.WireFor(log.Log.Texts[segment.AddressIndex], item.Attempt, counted: own is not null)));
            }
        }
        Answer = (found, present.PlanVersion, Plans.TotalsOf(present));
    }
}
