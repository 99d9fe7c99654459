using Rovett.Core.Notifications;
using Rovett.Core.Store;
using Rovett.Core.Visibility;

namespace Rovett.Core.Ledgers.Commands.Marking;

/// <summary>Takes a notification for a user, or releases it; answered when on disk. The other recipients
/// see it leave their lists and counts, or come back.</summary>
/// <param name="space">The space's name.</param>
/// <param name="userId">The user's id.</param>
/// <param name="id">The notification's id.</param>
/// <param name="take">True to take, false to release.</param>
/// <param name="by">The credential of the request, which must still be valid; null: none is checked.</param>
public sealed class TakeCommand(string space, string userId, NotificationId id, bool take, Identity? by = null)
    : LedgerCommand<TotalsBy>(space)
{
    internal override void Execute(Ledger ledger)
    {
        var state = ledger.Space(Space);
        var user = Users.Required(state, userId, by);
        state.UserLogs.Ensure(user);
        if (take) Take(ledger, state, user);
        else Release(ledger, state, user);
        state.UserLogs.Ensure(user); // who is not connected catches up with it now
        Answer = Plans.CountBy(user);
    }

    void Take(Ledger ledger, SpaceState state, UserState user)
    {
        if (Users.Place(ledger, state, user, id) is not var (log, ordinal, entry))
        {
            if (ledger.Store.FindNotification(state.Id, id) is { } other && ledger.Store.FindTake(state.Id, other.Position.Value) is { } by
                && user.Logs!.Exists(l => l.Log.Id == by.Place.Log && l.Concerns(by.Place.Ordinal)))
            {
                throw new Problem(409, "already-taken", "Already taken",
                    $"{state.Find(by.Person)?.Id} has taken this notification.",
                    "Wait until it is released.").ToException();
            }
            throw MarkCommand.UnknownId(id).ToException();
        }
        if (entry.Traits.TakeFor is not { } takeFor)
            throw new Problem(422, "not-takeable", "Not takeable", "This notification was not sent as takeable.",
                "Send it with \"takeable\": true to exactly one role.").ToException();
        if (log.Mine?.Contains(ordinal) == true) return; // taken by this user already
        StoredTime? until = takeFor > TimeSpan.Zero ? new StoredTime(state.Due.Micros + (long)takeFor.TotalMicroseconds) : null;
        byte[] body = [.. Changes.Member("by", user.Id.Value),
            .. until is { } end ? (byte[])[(byte)',', .. Changes.Member("until", ledger.Clock.Shown(end).ToString())] : []];
        ledger.NextRev(user);
        Changes.Make(ledger, state, EntryKind.Taken, entry, body, user, user.Id.Value);
        ledger.Store.AddTake(state.Id, new TakeRow(entry.Position.Value, user.PersonId, new Placement(log.Log.Id, ordinal), until));
        if (until is { } at) state.AddDue(new DueRow(at, DueKind.TakeEnd, entry.Position.Value, 0));
    }

    void Release(Ledger ledger, SpaceState state, UserState user)
    {
        if (Users.Place(ledger, state, user, id) is not var (_, _, entry)) throw MarkCommand.UnknownId(id).ToException();
        if (ledger.Store.FindTake(state.Id, entry.Position.Value) is not { } mine || mine.Person != user.PersonId)
            throw new Problem(409, "not-taken", "Not taken by this user", "Only the user who took a notification can release it.",
                "Take it first.").ToException();
        ledger.NextRev(user);
        Changes.Release(ledger, state, mine, user.Id.Value);
    }
}
