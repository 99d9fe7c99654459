using System.Text;
using System.Text.Encodings.Web;
using System.Text.Json;
using Rovett.Core.Addresses;
using Rovett.Core.Marks;
using Rovett.Core.Nodes;
using Rovett.Core.Notifications;
using Rovett.Core.Store;
using Rovett.Core.Visibility;
using Rovett.Core.Wire;

namespace Rovett.Core.Ledgers;

/// <summary>Changes to a stored notification. Each change is an entry, exact in every count, and is sent to everybody
/// connected whom the notification reached.</summary>
static class Changes
{
    /// <summary>Whether a notification is over for good: withdrawn, replaced, expired, or gone with retention. A taken
    /// one is not.</summary>
    public static bool IsOver(Ledger ledger, SpaceState space, EntryRow notification)
    {
        foreach (var place in notification.Placements)
        {
            var log = space.Log(place.Log);
            if (place.Ordinal > log.Trimmed && !log.Dead.Contains(place.Ordinal)) return false;
        }
        return ledger.Store.FindTake(space.Id, notification.Position.Value) is null;
    }

    /// <summary>Carries out a change.</summary>
    /// <param name="ledger">The ledger.</param>
    /// <param name="space">The space.</param>
    /// <param name="kind">Withdrawn, replaced, expired, taken or released.</param>
    /// <param name="notification">The notification.</param>
    /// <param name="body">The message's members beside the id.</param>
    /// <param name="taker">The taker, for <see cref="EntryKind.Taken"/>.</param>
    /// <param name="detail">The detail for receipts.</param>
    public static OutgoingEntry Make(Ledger ledger, SpaceState space, EntryKind kind, EntryRow notification, byte[] body, UserState? taker,
        string detail)
    {
        ledger.FanOut.Flush(); // what was stored before it in this command is offered before it
        var (position, time) = space.Draw();
        var store = ledger.Store;
        store.AppendEntry(space.Id,
            new EntryRow(position, time, kind, notification.Id, body, Addressing.None, notification.Placements, NotificationTraits.None));
        var entry = new OutgoingEntry(kind, position, time, notification.Id, space.Cursors.Seal(position), body);
        bool dies = kind != EntryKind.Released;
        if (kind != EntryKind.Taken) EndTake(ledger, space, notification);
        foreach (var place in notification.Placements)
        {
            var log = space.Log(place.Log);
            if (place.Ordinal <= log.Trimmed) continue;
            bool deadBefore = log.Dead.Contains(place.Ordinal);
            if (kind == EntryKind.Taken) space.TakenOf(log).Add(place.Ordinal);
            else space.StateOf(log).Taken?.Remove(place.Ordinal);
            int turn = (dies ? log.Dead.Add(place.Ordinal) : log.Dead.Remove(place.Ordinal)) ? dies ? -1 : 1 : 0;
            SaveDead(store, log);
            store.AppendChange(log.Id, new JournalRow(position.Value, place.Ordinal, kind, turn));
            log.Change(position.Value, place.Ordinal);
            Announce(ledger, space.StateOf(log), place.Ordinal, entry, deadBefore, dies, taker);
        }
        space.Recent.Add(entry);
        if (notification.Traits.Receipts != ReceiptLevel.None)
        {
            store.AppendReceipt(space.Id,
                new ReceiptRow(++space.LastReceipt, time, StateOf(kind), 0, default, 0, "", notification.Position.Value, detail));
            ledger.Observe(o => o.Receipted(space.Row.Name));
        }
        ledger.Observe(o => o.Changed(space.Row.Name, entry));
        return entry;
    }

    static void Announce(Ledger ledger, LogState home, long ordinal, OutgoingEntry entry, bool deadBefore, bool deadAfter, UserState? taker)
    {
        var log = home.Log;
        foreach (var member in home.Members)
        {
            var user = member.User;
            bool concerns = member.Log.Concerns(ordinal);
            long turned = member.Log.Turned(ordinal, deadBefore, deadAfter, user == taker, entry.Position.Value);
            if (!concerns && turned == 0) continue;
            var address = entry.Kind == EntryKind.Released ? log.Texts[AddressIndex(member.Log, ordinal)] : "";
            ledger.Port.Add(new NodeLine(user.Node, concerns ? EntryRun.Of(entry.WireFor(address), log.Id, ordinal) : null, turned,
                ledger.Origin));
        }
        foreach (var watch in home.Subscribers)
        {
            if (!watch.Seen.Concerns(ordinal) || watch.Seen.Muted.Contains(ordinal)) continue;
            var user = watch.Place.User;
            if (watch.Place.Session == ledger.Origin) continue;
            ledger.Port.Add(new NodeWatchLine(user.Node, watch.Place.Session,
                EntryRun.Of(entry.WireFor(entry.Kind == EntryKind.Released ? watch.Address : "", counted: false), log.Id, ordinal)));
        }
        // A user in memory who is not connected is in no list.
        if (taker is { Sessions.Count: 0, Logs: not null } && taker.Logs.Find(l => l.Log == log) is { } own)
        {
            own.Turned(ordinal, deadBefore, deadAfter, true, entry.Position.Value);
        }
    }

    static int AddressIndex(UserLog log, long ordinal)
    {
        foreach (var s in log.Segments)
        {
            if (ordinal > s.Lo && ordinal <= s.Hi) return s.AddressIndex;
        }
        return 0;
    }

    static void EndTake(Ledger ledger, SpaceState space, EntryRow notification)
    {
        if (ledger.Store.FindTake(space.Id, notification.Position.Value) is not { } take) return;
        ledger.Store.RemoveTake(space.Id, take.Position);
        if (take.Until is { } until) ledger.Store.RemoveDue(space.Id, new DueRow(until, DueKind.TakeEnd, take.Position, 0));
        // The taker is not connected, so its log is updated here.
        if (space.Find(take.Person) is { Sessions.Count: 0, Logs: not null } taker)
        {
            taker.Logs.Find(l => l.Log.Id == take.Place.Log)?.Mine?.Remove(take.Place.Ordinal);
        }
    }

    /// <summary>Gives back what a user has taken and may no longer see (or everything).</summary>
    public static void ReleaseLost(Ledger ledger, SpaceState space, UserState user, bool everything)
    {
        foreach (var take in ledger.Store.TakesOf(user.PersonId))
        {
            var audience = space.Log(take.Place.Log).Audience!;
            if (!everything && audience.Includes.Any(a => user.Holds(a.ToString()))
                && !audience.Excludes.Any(a => user.Holds(a.ToString())))
            {
                continue;
            }
            Release(ledger, space, take, "role lost");
        }
    }

    /// <summary>Gives a taken notification back to everybody it reached.</summary>
    public static void Release(Ledger ledger, SpaceState space, TakeRow take, string why)
    {
        var notification = ledger.Store.FindEntry(space.Id, take.Position)!;
        Make(ledger, space, EntryKind.Released, notification, notification.Body, null, why);
    }

    /// <summary>Stores what died or came to life in a log.</summary>
    public static void SaveDead(ILedgerStore store, AddressLog log)
    {
        foreach (int block in log.Dead.ChangedBlocks)
        {
            var stored = log.Dead.StoredBlock(block);
            store.SaveBlock(0, log.Id, MarkKind.Dead, block, stored?.Bits, stored?.Count ?? 0);
        }
        log.Dead.ClearChanges();
    }

    /// <summary><c>"name":"value"</c>, escaped.</summary>
    public static byte[] Member(string name, string value) =>
        Encoding.UTF8.GetBytes($"\"{name}\":\"{JsonEncodedText.Encode(value, JavaScriptEncoder.UnsafeRelaxedJsonEscaping)}\"");

    static ReceiptState StateOf(EntryKind kind) => kind switch
    {
        EntryKind.Withdrawn => ReceiptState.Withdrawn,
        EntryKind.Replaced => ReceiptState.Replaced,
        EntryKind.Expired => ReceiptState.Expired,
        EntryKind.Taken => ReceiptState.Taken,
        _ => ReceiptState.Released,
    };
}
