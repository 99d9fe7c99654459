using System.Text;
using Rovett.Core.Addresses;
using Rovett.Core.Nodes;
using Rovett.Core.Notifications;
using Rovett.Core.Store;
using Rovett.Core.Visibility;
using Rovett.Core.Wire;

namespace Rovett.Core.Ledgers.Commands.Life;

/// <summary>Deletes the oldest entries that retention no longer keeps, a few at a time. Answers how many; as
/// many as the limit: there may be more.</summary>
/// <param name="space">The space's name.</param>
/// <param name="limit">The most to delete.</param>
/// <param name="repeatsKeptFor">How long repeats of an event are recognised at least; null: as long as those of a send.</param>
public sealed class TrimCommand(string space, int limit = 256, TimeSpan? repeatsKeptFor = null) : LedgerCommand<int>(space)
{
    internal override void Execute(Ledger ledger)
    {
        var state = ledger.Space(Space);
        Trim(ledger, state);
        if (Answer >= limit) return;
        var entry = ledger.Store.Entries(state.Id, state.Floor + 1, 1) is [var oldest] ? oldest.Time : StoredTime.Max;
        var receipt = ledger.Store.OldestReceipt(state.Id) ?? StoredTime.Max;
        var left = entry < receipt ? entry : receipt;
        state.Agenda.Trimmed(left < StoredTime.Max ? left : null, state.Head - state.Floor);
    }

    void Trim(Ledger ledger, SpaceState state)
    {
        var store = ledger.Store;
        long target = state.Floor;
        if (ledger.Options.KeepFor is { } keep)
        {
            target = Math.Max(target,
                store.PositionAt(state.Id, new StoredTime(ledger.Clock.Retention.Micros - (long)keep.TotalMicroseconds)));
        }
        // The entry that tells of it counts, too.
        if (ledger.Options.KeepCount is { } count && state.Head - state.Floor > count) target = Math.Max(target, state.Head + 1 - count);
        long upTo = Math.Min(Math.Min(target, state.Floor + limit), state.Head);
        // Receipts are kept as long as entries; where these are kept by number, those older than all of them go. Each
        // is one row, where an entry is many.
        var before = ledger.Options.KeepFor is { } forgotten
            ? new StoredTime(ledger.Clock.Retention.Micros - (long)forgotten.TotalMicroseconds)
            : store.Entries(state.Id, state.Floor + 1, 1) is [var oldest, ..] ? oldest.Time : default;
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
                // Users who were offline miss live notifications, and changes to notifications they may still show.
                bool isLost = entry.Kind != EntryKind.Notification || !log.Dead.Contains(place.Ordinal);
                if (isLost) lost = new LostNotification(Math.Max(place.Ordinal, lost?.Ordinal ?? 0), entry.Position.Value, entry.Time);
                trimmed[log] = (entry.Kind == EntryKind.Notification ? place.Ordinal : ordinal, lost);
            }
        }
        var (position, time) = state.Draw();
        store.AppendEntry(state.Id,
            new EntryRow(position, time, EntryKind.Trimmed, default, Encoding.UTF8.GetBytes($"\"through\":{upTo}"), Addressing.None,
            [.. trimmed.Select(t => new Placement(t.Key.Id, t.Value.Ordinal))], NotificationTraits.None));
        foreach (var (log, (ordinal, taken)) in trimmed)
        {
            // Changes to them are no longer sent either, because their recipients are no longer known.
            var lost = store.NewestChange(log.Id, upTo, new OrdinalRun(1, ordinal)) is { } ended
                ? new LostNotification(Math.Max(ended.Ordinal, taken?.Ordinal ?? 0), ended.Position,
                store.FindEntry(state.Id, ended.Position)!.Time) : taken;
            log.Trim(ordinal, lost);
            state.StateOf(log).Taken?.RemoveWhere(o => o <= ordinal);
            log.Change(position.Value, ordinal);
            Changes.SaveDead(store, log);
            store.AppendChange(log.Id, new JournalRow(position.Value, ordinal, EntryKind.Trimmed, 0));
            store.TrimLog(log.Id, ordinal);
            store.SaveLog(state.RowOf(log));
        }
        var newest = store.FindEntry(state.Id, upTo)?.Time ?? default;
        store.TrimEntries(state.Id, upTo);
        TrimEvents(ledger, state, newest);
        Answer = Math.Max(Answer, (int)(upTo - state.Floor));
        state.Floor = upTo;
        store.SaveFloor(state.Id, upTo);
        Recount(ledger, trimmed.Keys, state);
    }

    /// <summary>Events are kept as long as their notifications, and for as long as a repeat must be recognised.</summary>
    void TrimEvents(Ledger ledger, SpaceState state, StoredTime through)
    {
        long repeats = ledger.Clock.Retention.Micros - (long)(repeatsKeptFor ?? Idempotency.KeptFor).TotalMicroseconds;
        if (ledger.Store.TrimEvents(state.Id, new StoredTime(Math.Min(through.Micros, repeats)), limit) == limit) Answer = limit;
        ledger.Store.TrimOrigins(state.Id, NotificationId.First(through.ToDateTime()));
    }

    /// <summary>Takes unread notifications that were trimmed off the totals of connected people.</summary>
    static void Recount(Ledger ledger, IEnumerable<AddressLog> logs, SpaceState state)
    {
        var touched = new HashSet<UserState>();
        foreach (var log in logs)
        {
            foreach (var member in state.StateOf(log).Members)
            {
                member.Log.Mine?.RemoveAll(o => o <= log.Trimmed);
                member.Log.Recount();
                touched.Add(member.User);
            }
        }
        foreach (var user in touched)
        {
            // Sessions that are behind get the gap before anything else.
            user.PlanVersion++;
            foreach (var place in user.Sessions) state.Port.Add(new NodePlan(place.Session, user.PlanVersion, null));
            long unread = user.CountUnread();
            state.UserLogs.Save(user);
            state.Port.Add(new NodeRecount(user.Node, unread, Messages.TotalsNow(Plans.TotalsOf(user, unread))));
        }
    }
}
