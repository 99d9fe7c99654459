using Rovett.Core.Delivery;
using Rovett.Core.Notifications;
using Rovett.Core.Store;
using Rovett.Core.Wire;

namespace Rovett.Core.Ledgers.Commands.Sending;

/// <summary>Stores a notification and offers it to connected recipients.</summary>
/// <param name="space">The space's name.</param>
/// <param name="draft">The notification.</param>
/// <param name="idempotency">Recognises a repeat; null: none is recognised.</param>
/// <param name="dryRun">Answers without storing or sending anything.</param>
/// <param name="origin">The session that caused it, which is not sent it.</param>
/// <param name="mayReplace">Whether the sender may replace a notification in its slot; null: any.</param>
public sealed class SendCommand(string space, Draft draft, Idempotency? idempotency, bool dryRun,
    (UserState User, ISessionPort Session)? origin = null, Func<EntryRow, bool>? mayReplace = null) : LedgerCommand<SendResult>(space)
{
    internal override bool IsFrequent => true;

    internal override bool OnlySends => true;

    internal override bool ShowsStoreWorks => true;

    internal override void Needs(AheadList ahead)
    {
        if (idempotency is not null) ahead.Answers.Add(idempotency.Key);
        Recipients.Needs(draft, ahead);
    }

    internal override void Execute(Ledger ledger) => Answer = Send(ledger);

    /// <summary>Sends it as part of a command.</summary>
    internal SendResult Send(Ledger ledger)
    {
        var state = ledger.Space(Space);
        if (idempotency is not null
            && ledger.Store.FindAnswer(state.Id, idempotency.Key,
            new StoredTime(ledger.Clock.Retention.Micros - (long)Idempotency.KeptFor.TotalMicroseconds)) is { } earlier)
        {
            if (!earlier.BodyHash.AsSpan().SequenceEqual(idempotency.BodyHash))
            {
                throw new Problem(422, "idempotency-key-reused", "Idempotency-Key reused with another body",
                    "A request with this Idempotency-Key and a different body was answered within the last 48 hours.",
                    "Use a new key for a new notification; repeat a request with exactly the same body.").ToException();
            }
            return new SendResult(earlier.Id, earlier.Position, Recipients.Of(ledger, state, draft), true);
        }
        var reach = Recipients.Of(ledger, state, draft);
        Recipients.Check(ledger, draft, reach);
        if (mayReplace is not null && draft.Slot is not null && ledger.Store.FindSlot(state.Id, draft.SlotKey) is { } before
            && before > state.Floor && ledger.Store.FindEntry(state.Id, before) is { } old && !Changes.IsOver(ledger, state, old)
            && !mayReplace(old))
            throw new Problem(403, "api-key-narrowed", "API key not allowed to send this",
                $"In the slot '{draft.Slot}' is a notification of another type, which this key may not replace.",
                "Use another slot, or a key that may send that type, too.")
            { Errors = [new FieldError("slot", "has a notification that this key may not replace")] }.ToException();
        var result = dryRun ? new SendResult(default, default, reach, false) : Store(ledger, state, reach);
        if (!dryRun && idempotency is not null)
        {
            ledger.Store.AddAnswer(state.Id, idempotency.Key, new IdempotencyRow(idempotency.BodyHash, result.Id, result.Position),
                ledger.Clock.Retention);
        }
        return result;
    }

    SendResult Store(Ledger ledger, SpaceState state, List<Reach> reach)
    {
        var sending = new SendOperation(ledger, state, draft);
        if (origin is not var (user, session)) return sending.Store(reach);
        ledger.FanOut.Flush(); // what came before is offered to it
        ledger.Origin = session;
        try
        {
            var result = sending.Store(reach);
            ledger.FanOut.Flush();
            return result;
        }
        finally
        {
            ledger.Origin = null;
            if (SessionPlaces.Find(state, user, session) is var (present, place))
            {
                ledger.Tell(place, Messages.TotalsNow(Plans.TotalsOf(present)));
            }
        }
    }
}
