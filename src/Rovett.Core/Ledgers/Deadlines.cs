using System.Buffers;
using System.Text;
using System.Text.Json;
using Rovett.Core.Addresses;
using Rovett.Core.Marks;
using Rovett.Core.Notifications;
using Rovett.Core.Store;
using Rovett.Core.Visibility;

namespace Rovett.Core.Ledgers;

/// <summary>Deadlines: the state that a notification must reach, for whom, by when.</summary>
static class Deadlines
{
    const int NamedMissing = 100;
    // Acks are written behind: one that arrived in time may be stored this much later.
    static readonly long WrittenBehind = 250_000;

    public static void Set(Ledger ledger, SpaceState space, Position position, StoredTime stored, int number, DeadlineTerms terms)
    {
        var at = new StoredTime(stored.Micros + (long)terms.Within.TotalMicroseconds);
        ledger.Store.SaveDeadline(space.Id, new DeadlineRow(position.Value, number, terms, at, DeadlineState.Pending, null));
        for (int i = 0; i < terms.Otherwise.Count; i++)
        {
            ledger.Store.SaveOtherwise(space.Id, position.Value, number, new OtherwiseRow(i, terms.Otherwise[i]));
        }
        space.AddDue(new DueRow(new StoredTime(space.Due.Micros + (long)terms.Within.TotalMicroseconds + WrittenBehind), DueKind.Deadline,
            position.Value, number));
    }

    /// <summary>Closes a deadline whose time is up.</summary>
    public static void Judge(Ledger ledger, SpaceState space, EntryRow notification, int number)
    {
        var deadline = ledger.Store.Deadlines(space.Id, notification.Position.Value).FirstOrDefault(d => d.Number == number);
        if (deadline is not { State: DeadlineState.Pending }) return;
        if (Changes.IsOver(ledger, space, notification))
        {
            ledger.Store.SaveDeadline(space.Id, deadline with { State = DeadlineState.Void, Ended = space.Time });
            return;
        }
        var missing = Missing(ledger, space, notification, deadline.Terms, out bool met);
        var end = deadline with { State = met ? DeadlineState.Met : DeadlineState.Missed, Ended = space.Time };
        ledger.Store.SaveDeadline(space.Id, end);
        var detail = Detail(number, deadline.Terms, missing);
        if (!met)
        {
            var (position, time) = space.Draw();
            ledger.Store.AppendEntry(space.Id,
                new EntryRow(position, time, EntryKind.Missed, notification.Id, Encoding.UTF8.GetBytes(detail[1..^1]), Addressing.None, [],
                NotificationTraits.None));
            end = end with { Ended = time };
            ledger.Store.SaveDeadline(space.Id, end);
        }
        ledger.Store.AppendReceipt(space.Id,
            new ReceiptRow(++space.LastReceipt, end.Ended!.Value, met ? ReceiptState.DeadlineMet : ReceiptState.DeadlineMissed, 0, default,
            0, "", notification.Position.Value, detail));
        ledger.Observe(o => o.Receipted(space.Row.Name));
        ledger.Observe(o => o.DeadlineEnded(space.Row.Name, met));
        if (!met) OtherwiseOperation.Begin(ledger, space, notification, end, detail);
    }

    /// <summary>Whether its state is reached meanwhile, or the notification has ended.</summary>
    public static bool IsReached(Ledger ledger, SpaceState space, long position, int number)
    {
        if (position <= space.Floor || ledger.Store.FindEntry(space.Id, position) is not { } notification) return false;
        if (Changes.IsOver(ledger, space, notification)) return true;
        if (ledger.Store.Deadlines(space.Id, position).FirstOrDefault(d => d.Number == number) is not { } deadline) return false;
        Missing(ledger, space, notification, deadline.Terms, out bool met);
        return met;
    }

    /// <summary>The recipients who have not reached the state.</summary>
    static List<string> Missing(Ledger ledger, SpaceState space, EntryRow notification, DeadlineTerms terms, out bool met)
    {
        var missing = new List<string>();
        if (terms.By == ReceiptState.Taken)
        {
            met = ledger.Store.FindTake(space.Id, notification.Position.Value) is not null;
            return missing;
        }
        var kind = terms.By switch { ReceiptState.Read => MarkKind.Read, ReceiptState.Handled => MarkKind.Handled, _ => MarkKind.Received };
        if (!terms.Each)
        {
            ledger.WriteTallies(); // what this batch marked counts
            met = notification.Placements.Any(p => ledger.Store.Tally(p.Log, kind, p.Ordinal) > 0);
            return missing;
        }
        foreach (var place in notification.Placements)
        {
            var log = space.Log(place.Log);
            foreach (var user in Readers(ledger, space, log))
            {
                if (space.UserLogs.Ensure(user).Find(l => l.Log == log) is not { } own || own.SegmentOf(place.Ordinal) is null) continue;
                var marks = kind switch { MarkKind.Read => own.Read, MarkKind.Handled => own.Handled, _ => own.Received };
                if (!marks.Contains(place.Ordinal)) missing.Add(user.Id.Value);
            }
        }
        met = missing.Count == 0;
        return missing;
    }

    /// <summary>Everybody who may see something of a log.</summary>
    static IEnumerable<UserState> Readers(Ledger ledger, SpaceState space, AddressLog log)
    {
        if (log.Audience is null)
        {
            if (space.Find(log.Addresses[0].Name) is { } owner) yield return owner;
            yield break;
        }
        var seen = new HashSet<long>();
        foreach (var address in log.Texts)
        {
            for (long after = 0; ;)
            {
                var page = ledger.Store.Holders(space.Id, address, after, 500);
                foreach (long person in page)
                {
                    if (seen.Add(person) && space.Find(person) is { } user) yield return user;
                }
                if (page.Count == 0) break;
                after = page[^1];
            }
        }
    }

    static string Detail(int number, DeadlineTerms terms, List<string> missing)
    {
        var buffer = new ArrayBufferWriter<byte>(256);
        using (var json = new Utf8JsonWriter(buffer, JsonText.WriterOptions))
        {
            json.WriteStartObject();
            json.WriteNumber("deadline", number);
            json.WriteString("by", NameOf(terms.By));
            json.WriteString("who", terms.Each ? "each" : "anyone");
            if (missing.Count > 0)
            {
                json.WriteNumber("missing", missing.Count);
                json.WriteStartArray("missingUsers");
                foreach (var user in missing.Take(NamedMissing)) json.WriteStringValue(user);
                json.WriteEndArray();
            }
            json.WriteEndObject();
        }
        return Encoding.UTF8.GetString(buffer.WrittenSpan);
    }

    /// <summary>The word for a state.</summary>
    public static string NameOf(ReceiptState state) => state switch
    {
        ReceiptState.Received => "received",
        ReceiptState.Handled => "handled",
        ReceiptState.Read => "read",
        _ => "taken",
    };
}
