using Rovett.Core.AddressLogs;
using Rovett.Core.Delivery;
using Rovett.Core.Marks;

namespace Rovett.Core.Ledger;

/// <summary>What became of a wish to withdraw: <see cref="State"/> is what the notification is now, <see cref="Changed"/>
/// whether this request made it so.</summary>
public sealed record WithdrawResult(NotificationId Id, string State, Position? Position, StoredTime Time, bool Changed);

/// <summary>Takes a notification back: it leaves every inbox and count.</summary>
public sealed class WithdrawCommand(string space, NotificationId id) : LedgerCommand<WithdrawResult>
{
    internal override void Write(Ledger ledger)
    {
        var state = ledger.Space(space);
        var notification = ledger.Store.FindNotification(state.Id, id) ?? throw Unknown().Throw();
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

    /// <summary>The answer to an id nobody knows.</summary>
    public static Problem Unknown() => new(404, "unknown-notification", "No such notification", "There is no notification by this id in this space.", "Take the id from the answer to the send.");
}

/// <summary>Carries out what is due: expiries, ends of takings, deadlines. Answers how many there were.</summary>
/// <param name="space">The space's name.</param>
/// <param name="limit">At most so many.</param>
/// <param name="only">This one alone; null: the earliest.</param>
public sealed class DueCommand(string space, int limit = 256, DueRow? only = null) : LedgerCommand<int>
{
    internal override void Write(Ledger ledger)
    {
        var state = ledger.Space(space);
        foreach (var due in only is { } one ? [one] : ledger.Store.Due(state.Id, state.Due, limit))
        {
            if (due.Kind == DueKind.Deadline && state.Due < ledger.DeadlinesFrom)
            {
                ledger.Store.RemoveDue(state.Id, due);
                ledger.Store.AddDue(state.Id, due with { At = ledger.DeadlinesFrom });
                continue;
            }
            Answer++;
            ledger.Store.RemoveDue(state.Id, due);
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
            if (due.Position <= state.Floor) continue;
            var notification = ledger.Store.FindEntry(state.Id, due.Position)!;
            switch (due.Kind)
            {
                case DueKind.Expiry:
                    if (!Changes.IsOver(ledger, state, notification)) Changes.Make(ledger, state, EntryKind.Expired, notification, [], null, "");
                    break;
                case DueKind.TakeEnd:
                    if (ledger.Store.FindTake(state.Id, due.Position) is { } take && take.Until <= state.Due) Changes.Release(ledger, state, take, "time is up");
                    break;
                default:
                    Deadlines.Judge(ledger, state, notification, due.Number);
                    break;
            }
        }
    }
}

/// <summary>Lists what is due now, the earliest first.</summary>
public sealed class ListDueCommand(string space, int limit) : LedgerCommand<IReadOnlyList<DueRow>>
{
    internal override bool MayOnlyRead => true;

    internal override void Write(Ledger ledger)
    {
        var state = ledger.Space(space);
        Answer = ledger.Store.Due(state.Id, state.Due, limit);
    }
}

/// <summary>Sets something due aside that can't be carried out: it is kept, with the reason, and not tried again.</summary>
public sealed class SetDueAsideCommand(string space, DueRow due, string why) : LedgerCommand<bool>
{
    internal override void Write(Ledger ledger)
    {
        var state = ledger.Space(space);
        ledger.Store.RemoveDue(state.Id, due);
        ledger.SetAside(state, new SetAsideRow(state.Time, AsideKind.Due, due.Position, why, $"{{\"due\":\"{due.Kind}\",\"number\":{due.Number},\"at\":\"{due.At}\"}}"), $"the {due.Kind} due for the entry at position {due.Position}");
        Answer = true;
    }
}

/// <summary>Lets the oldest entries go, a few at a time, as far as retention allows. Answers how many went; as
/// many as the limit: there may be more.</summary>
public sealed class TrimCommand(string space, int limit = 256) : LedgerCommand<int>
{
    internal override void Write(Ledger ledger)
    {
        var state = ledger.Space(space);
        var store = ledger.Store;
        long target = state.Floor;
        if (ledger.Options.KeepFor is { } keep) target = Math.Max(target, store.PositionAt(state.Id, new StoredTime(ledger.Clock.Retention.Micros - (long)keep.TotalMicroseconds)));
        if (ledger.Options.KeepCount is { } count) target = Math.Max(target, state.Head - count);
        long upTo = Math.Min(Math.Min(target, state.Floor + limit), state.Head);
        // Receipts are kept as long as entries; where these are kept by number, those older than all of them go. Each is one row, where an entry is many.
        var before = ledger.Options.KeepFor is { } forgotten ? new StoredTime(ledger.Clock.Retention.Micros - (long)forgotten.TotalMicroseconds) : store.Entries(state.Id, state.Floor + 1, 1) is [var oldest, ..] ? oldest.Time : default;
        if (store.TrimReceipts(state.Id, before, limit * 8) == limit * 8) Answer = limit;
        if (upTo <= state.Floor) return;

        var trimmed = new Dictionary<AddressLog, (long Ordinal, LostNotification? Lost)>();
        foreach (var entry in store.Entries(state.Id, state.Floor + 1, (int)(upTo - state.Floor)))
        {
            if (entry.Kind == EntryKind.Trimmed) continue;
            foreach (var place in entry.Placements)
            {
                var log = state.Log(place.Log);
                var (ordinal, lost) = trimmed.GetValueOrDefault(log);
                // Whoever was away misses what came and is alive, and what became of what it may still show.
                bool isLost = entry.Kind != EntryKind.Notification || !log.Dead.Contains(place.Ordinal);
                if (isLost) lost = new LostNotification(Math.Max(place.Ordinal, lost?.Ordinal ?? 0), entry.Position.Value, entry.Time);
                trimmed[log] = (entry.Kind == EntryKind.Notification ? place.Ordinal : ordinal, lost);
            }
        }
        var (position, time) = state.Draw();
        store.AppendEntry(state.Id, new EntryRow(position, time, EntryKind.Trimmed, default, System.Text.Encoding.UTF8.GetBytes($"\"through\":{upTo}"), "",
            [.. trimmed.Select(t => new Placement(t.Key.Id, t.Value.Ordinal))], NotificationTraits.None));
        foreach (var (log, (ordinal, taken)) in trimmed)
        {
            // What ended since is not told any more either, for nobody knows any more whose it was.
            var lost = store.NewestChange(log.Id, upTo, new OrdinalRun(1, ordinal)) is { } ended
                ? new LostNotification(Math.Max(ended.Ordinal, taken?.Ordinal ?? 0), ended.Position, store.FindEntry(state.Id, ended.Position)!.Time) : taken;
            log.Trim(ordinal, lost);
            log.Taken?.RemoveWhere(o => o <= ordinal);
            log.Change(position.Value, ordinal);
            Changes.SaveDead(store, log);
            store.AppendChange(log.Id, new JournalRow(position.Value, ordinal, EntryKind.Trimmed, 0));
            store.TrimLog(log.Id, ordinal);
            store.SaveLog(state.RowOf(log));
        }
        store.TrimEntries(state.Id, upTo);
        Answer = Math.Max(Answer, (int)(upTo - state.Floor));
        state.Floor = upTo;
        store.SaveFloor(state.Id, upTo);
        Recount(ledger, trimmed.Keys, state);
    }

    /// <summary>Connected people lose what they had not read of it.</summary>
    static void Recount(Ledger ledger, IEnumerable<AddressLog> logs, SpaceState state)
    {
        var touched = new HashSet<UserState>();
        foreach (var log in logs)
        {
            foreach (var member in log.Members)
            {
                member.Log.Mine?.RemoveAll(o => o <= log.Trimmed);
                member.Log.Recount();
                touched.Add(member.User);
            }
        }
        foreach (var user in touched)
        {
            // Sessions that are behind must see what is lost before they go on.
            user.PlanVersion++;
            foreach (var place in user.Sessions) place.Session.PlanChanged(user.PlanVersion, null);
            long unread = user.CountUnread();
            state.SaveLogs(user);
            if (unread == user.Unread) continue;
            user.Unread = unread;
            var message = Messages.TotalsNow(Ledger.TotalsOf(user, unread));
            foreach (var place in user.Sessions) ledger.Tell(place, message);
        }
    }
}

/// <summary>A user takes a notification over, or gives it back: an act of a person, answered when on disk. The others
/// see it leave their lists and counts, or come back.</summary>
/// <param name="space">The space's name.</param>
/// <param name="userId">Who.</param>
/// <param name="id">Which.</param>
/// <param name="take">True to take, false to release.</param>
/// <param name="by">The credential by which it is asked, which must hold still; null: nobody asks whose could end.</param>
public sealed class TakeCommand(string space, string userId, NotificationId id, bool take, Identity? by = null) : LedgerCommand<TotalsBy>
{
    internal override void Write(Ledger ledger)
    {
        var state = ledger.Space(space);
        var user = Users.Required(state, userId, by);
        state.EnsureLogs(user);
        if (take) Take(ledger, state, user);
        else Release(ledger, state, user);
        state.EnsureLogs(user); // who is not connected catches up with it now
        Answer = ledger.CountBy(user);
    }

    void Take(Ledger ledger, SpaceState state, UserState user)
    {
        if (Users.Place(ledger, state, user, id) is not var (log, ordinal, entry))
        {
            if (ledger.Store.FindNotification(state.Id, id) is { } other && ledger.Store.FindTake(state.Id, other.Position.Value) is { } by && user.Logs!.Exists(l => l.Log.Id == by.Place.Log && l.Concerns(by.Place.Ordinal)))
            {
                throw new Problem(409, "already-taken", "Somebody else has taken it", $"{state.Find(by.Person)?.Id} has taken this notification.", "Leave it to them, or wait until it is released.").Throw();
            }
            throw MarkCommand.UnknownId(id).Throw();
        }
        if (entry.Traits.TakeFor is not { } takeFor)
            throw new Problem(422, "not-takeable", "It is nothing to take over", "This notification was not sent as takeable.", "Send it with \"takeable\": true to exactly one role.").Throw();
        if (log.Mine?.Contains(ordinal) == true) return; // taken by this user already
        StoredTime? until = takeFor > TimeSpan.Zero ? new StoredTime(state.Due.Micros + (long)takeFor.TotalMicroseconds) : null;
        byte[] body = [.. Changes.Member("by", user.Id.Value), .. until is { } end ? (byte[])[(byte)',', .. Changes.Member("until", ledger.Clock.Shown(end).ToString())] : []];
        ledger.NextRev(user);
        Changes.Make(ledger, state, EntryKind.Taken, entry, body, user, user.Id.Value);
        ledger.Store.AddTake(state.Id, new TakeRow(entry.Position.Value, user.PersonId, new Placement(log.Log.Id, ordinal), until));
        if (until is { } at) ledger.Store.AddDue(state.Id, new DueRow(at, DueKind.TakeEnd, entry.Position.Value, 0));
    }

    void Release(Ledger ledger, SpaceState state, UserState user)
    {
        if (Users.Place(ledger, state, user, id) is not var (_, _, entry)) throw MarkCommand.UnknownId(id).Throw();
        if (ledger.Store.FindTake(state.Id, entry.Position.Value) is not { } mine || mine.Person != user.PersonId)
            throw new Problem(409, "not-taken", "It is not taken by this user", "Only who has taken a notification can release it.", "Take it first.").Throw();
        ledger.NextRev(user);
        Changes.Release(ledger, state, mine, user.Id.Value);
    }
}
