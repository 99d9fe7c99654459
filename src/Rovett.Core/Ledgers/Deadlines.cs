using System.Buffers;
using System.Text;
using System.Text.Json;
using Rovett.Core.Addresses;
using Rovett.Core.Marks;
using Rovett.Core.Notifications;
using Rovett.Core.Store;

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
    /// <param name="ledger">The ledger.</param>
    /// <param name="space">The space.</param>
    /// <param name="notification">What has the deadline.</param>
    /// <param name="number">Which of its deadlines.</param>
    /// <param name="people">How many people may be looked at; what is left of it.</param>
    /// <returns>False when some are left for another call.</returns>
    public static bool Judge(Ledger ledger, SpaceState space, EntryRow notification, int number, ref int people)
    {
        var deadline = ledger.Store.Deadlines(space.Id, notification.Position.Value).FirstOrDefault(d => d.Number == number);
        if (deadline is not { State: DeadlineState.Pending }) return true;
        if (Changes.IsOver(ledger, space, notification))
        {
            ledger.Store.SaveDeadline(space.Id, deadline with { State = DeadlineState.Void, Ended = space.Time });
            return true;
        }
        List<string> missing = [];
        bool met;
        if (deadline.Terms is { Each: true, By: not ReceiptState.Taken })
        {
            var key = (notification.Position.Value, number);
            if (!space.RollCalls.TryGetValue(key, out var call))
            {
                space.RollCalls[key] = call = new RollCall(notification.Placements, KindOf(deadline.Terms.By));
            }
            if (!call.GoOn(ledger, space, ref people)) return false;
            (missing, met) = (call.Missing, call.Missing.Count == 0);
        }
        else met = IsMetByAnyone(ledger, space, notification, deadline.Terms);
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
        return true;
    }

    /// <summary>Whether its state is reached meanwhile, or the notification has ended.</summary>
    public static bool IsReached(Ledger ledger, SpaceState space, long position, int number)
    {
        if (position <= space.Floor || ledger.Store.FindEntry(space.Id, position) is not { } notification) return false;
        if (Changes.IsOver(ledger, space, notification)) return true;
        if (ledger.Store.Deadlines(space.Id, position).FirstOrDefault(d => d.Number == number) is not { } deadline) return false;
        if (deadline.Terms is not { Each: true, By: not ReceiptState.Taken })
        {
            return IsMetByAnyone(ledger, space, notification, deadline.Terms);
        }
        int people = int.MaxValue;
        var call = new RollCall(notification.Placements, KindOf(deadline.Terms.By)) { OnlyFirst = true };
        return call.GoOn(ledger, space, ref people) && call.Missing.Count == 0;
    }

    static bool IsMetByAnyone(Ledger ledger, SpaceState space, EntryRow notification, DeadlineTerms terms)
    {
        if (terms.By == ReceiptState.Taken) return ledger.Store.FindTake(space.Id, notification.Position.Value) is not null;
        ledger.WriteTallies(); // what this batch marked counts
        return notification.Placements.Any(p => ledger.Store.Tally(p.Log, KindOf(terms.By), p.Ordinal) > 0);
    }

    static MarkKind KindOf(ReceiptState by) =>
        by switch { ReceiptState.Read => MarkKind.Read, ReceiptState.Handled => MarkKind.Handled, _ => MarkKind.Received };

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
