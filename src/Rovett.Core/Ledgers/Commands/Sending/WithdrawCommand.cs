using Rovett.Core.Notifications;
using Rovett.Core.Wire;

namespace Rovett.Core.Ledgers.Commands.Sending;

/// <summary>The result of a withdrawal: <see cref="State"/> is the notification's state now, <see cref="Changed"/>
/// whether this request made it so.</summary>
public sealed record WithdrawResult(NotificationId Id, string State, Position? Position, StoredTime Time, bool Changed);

/// <summary>Withdraws a notification from every inbox and count.</summary>
public sealed class WithdrawCommand(string space, NotificationId id) : LedgerCommand<WithdrawResult>(space)
{
    internal override void Execute(Ledger ledger)
    {
        var state = ledger.Space(Space);
        if (ledger.Store.FindNotification(state.Id, id) is not { } notification)
        {
            var gathering = ledger.Store.FindGathering(state.Id, id) ?? throw Unknown().ToException();
            Gatherings.Drop(ledger, state, gathering);
            Answer = new WithdrawResult(id, "withdrawn", null, state.Time, true);
            return;
        }
        if (Changes.IsOver(ledger, state, notification))
        {
            var (log, ordinal) = notification.Placements[0];
            var end = ledger.Store.NewestChange(log, notification.Position.Value, new OrdinalRun(ordinal, ordinal));
            var ended = end is { } change ? ledger.Store.FindEntry(state.Id, change.Position)!.Time : notification.Time;
            Answer = new WithdrawResult(id, end is null ? "trimmed" : OutgoingEntry.NameOf(end.Value.Kind), null, ended, false);
            return;
        }
        var entry = Changes.Make(ledger, state, EntryKind.Withdrawn, notification, [], null, "");
        Answer = new WithdrawResult(id, "withdrawn", entry.Position, entry.Time, true);
    }

    /// <summary>The answer to an unknown id.</summary>
    public static Problem Unknown() =>
        new(404, "unknown-notification", "No such notification", "This space has no notification with this id.",
        "Use the id from the send's response.");
}
