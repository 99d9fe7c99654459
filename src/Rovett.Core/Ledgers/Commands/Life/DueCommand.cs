using Rovett.Core.Ledgers.Commands.Topics;
using Rovett.Core.Notifications;
using Rovett.Core.Store;

namespace Rovett.Core.Ledgers.Commands.Life;

/// <summary>Carries out due work: expiries, ends of takings, deadlines. Answers how much there was: the limit when there may be
/// more.</summary>
/// <param name="space">The space's name.</param>
/// <param name="limit">At most so many.</param>
/// <param name="only">This one alone; null: the earliest.</param>
public sealed class DueCommand(string space, int limit = 256, DueRow? only = null) : LedgerCommand<int>(space)
{
    const int PeopleAtOnce = 25;

    internal override void Execute(Ledger ledger)
    {
        var state = ledger.Space(Space);
        CarryOut(ledger, state);
        if (only is not null || Answer >= limit) return;
        state.Agenda.IsLeft(ledger.Store.Due(state.Id, StoredTime.Max, 1) is [var next] ? next.At : null);
    }

    void CarryOut(Ledger ledger, SpaceState state)
    {
        int people = only is null ? PeopleAtOnce : int.MaxValue;
        bool isUnfinished = false;
        foreach (var due in only is { } one ? [one] : ledger.Store.Due(state.Id, state.Due, limit))
        {
            if (due.Kind == DueKind.Deadline && state.Due < ledger.DeadlinesFrom(state))
            {
                ledger.Store.RemoveDue(state.Id, due);
                state.AddDue(due with { At = ledger.DeadlinesFrom(state) });
                continue;
            }
            Answer++;
            if (due.Kind == DueKind.Deadline && due.Position > state.Floor && !Deadlines.Judge(ledger, state,
                ledger.Store.FindEntry(state.Id, due.Position)!, due.Number, ref people))
            {
                isUnfinished = true;
                continue;
            }
            ledger.Store.RemoveDue(state.Id, due);
            if (due.Kind == DueKind.Deadline)
            {
                state.RollCalls.Remove((due.Position, due.Number));
                continue;
            }
            if (due.Kind == DueKind.GrantEnd)
            {
                Grants.Due(ledger, state, due.Position);
                continue;
            }
            if (due.Kind == DueKind.TombstoneEnd)
            {
                ledger.Store.RemoveTombstone(state.Id, due.Position);
                state.HasTombstones = ledger.Store.HasTombstones(state.Id);
                continue;
            }
            if (due.Kind == DueKind.GatheringEnd)
            {
                Gatherings.Close(ledger, state, due.Position);
                continue;
            }
            if (due.Position <= state.Floor) continue;
            var notification = ledger.Store.FindEntry(state.Id, due.Position)!;
            switch (due.Kind)
            {
                case DueKind.Expiry:
                    if (!Changes.IsOver(ledger, state, notification))
                    {
                        Changes.Make(ledger, state, EntryKind.Expired, notification, [], null, "");
                    }
                    break;
                case DueKind.TakeEnd:
                    if (ledger.Store.FindTake(state.Id, due.Position) is { } take && take.Until <= state.Due)
                    {
                        Changes.Release(ledger, state, take, "time is up");
                    }
                    break;
                default:
                    throw new InvalidOperationException($"{due.Kind} is not about a notification.");
            }
        }
        if (isUnfinished) Answer = limit;
    }
}
