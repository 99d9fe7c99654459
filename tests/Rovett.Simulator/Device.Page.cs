using System.Text;
using System.Text.Json;
using Rovett.Core.Delivery;
using Rovett.Core.Ledgers.Commands.Sessions;
using Rovett.Core.Visibility;
using Rovett.Core.Wire;

namespace Rovett.Simulator;

/// <summary>The device's side of its line: reads what arrives, keeps list and total, and checks everything it is told.</summary>
sealed partial class Device
{
    static NotificationId? Id(JsonElement message) =>
        message.TryGetProperty("id", out var text) && NotificationId.TryParse(text.GetString(), out var id) ? id : null;

    void Read(Line at)
    {
        var messages = Split(at.Arrived, out int used);
        at.Arrived.RemoveRange(0, used);
        foreach (var message in messages)
        {
            if (at.Cut) return;
            world.Counts.Delivered++;
            Take(at, message);
        }
    }

    List<JsonElement> Split(List<byte> bytes, out int used)
    {
        var messages = new List<JsonElement>();
        used = 0;
        for (; ; )
        {
            int at = used;
            if (transport == TransportKind.WebSocket)
            {
                if (bytes.Count - at < 2) return messages;
                int length = bytes[at + 1], head = 2;
                if (length == 126)
                {
                    if (bytes.Count - at < 4) return messages;
                    (length, head) = (bytes[at + 2] << 8 | bytes[at + 3], 4);
                }
                if (bytes.Count - at < head + length) return messages;
                if ((bytes[at] & 15) == 1) messages.Add(Parse([.. bytes.GetRange(at + head, length)]));
                used = at + head + length;
                continue;
            }
            if (transport == TransportKind.LongPoll)
            {
                if (bytes.Count == 0) return messages;
                // An answer is whole; what was written ends in a comma.
                using var answer = JsonDocument.Parse((byte[])[(byte)'[', .. bytes[..^1], (byte)']']);
                foreach (var message in answer.RootElement.EnumerateArray()) messages.Add(message.Clone());
                used = bytes.Count;
                return messages;
            }
            int end = -1;
            for (int i = at; i + 1 < bytes.Count && end < 0; i++)
            {
                if (bytes[i] == '\n' && bytes[i + 1] == '\n') end = i + 2;
            }
            if (end < 0) return messages;
            var data = Encoding.UTF8.GetString([.. bytes.GetRange(at, end - at)]).Split('\n')
                .FirstOrDefault(l => l.StartsWith("data: ", StringComparison.Ordinal));
            if (data is not null) messages.Add(Parse(Encoding.UTF8.GetBytes(data[6..])));
            used = end;
        }
    }

    static JsonElement Parse(byte[] json)
    {
        using var document = JsonDocument.Parse(json);
        return document.RootElement.Clone();
    }

    void Take(Line at, JsonElement message)
    {
        var kind = message.GetProperty("kind").GetString()!;
        world.Note($"{name} hears {message.GetRawText()}");
        if (message.TryGetProperty("cursor", out var said) && kind != "opened") Advance(at, said.GetString()!, kind);
        switch (kind)
        {
            case "opened":
                cursor ??= message.GetProperty("cursor").GetString();
                Totals(message.GetProperty("totals"));
                if (listFrom < 0) Refresh();
                break;
            case "current":
                at.Current = true;
                break;
            case "gap":
                if (message.GetProperty("reason").GetString() == "retention") gapSeen = true;
                Refresh();
                break;
            case "channels":
                Totals(message.GetProperty("totals"));
                Refresh();
                break;
            case "notification":
                Notification(at, message);
                break;
            case "presence":
                Presence(at, message);
                break;
            case "withdrawn" or "replaced" or "expired":
                list.Remove(Id(message)!.Value);
                Count(message);
                break;
            case "taken":
                if (message.GetProperty("by").GetString() != user) list.Remove(Id(message)!.Value);
                Count(message);
                break;
            case "released":
                if (!message.TryGetProperty("counted", out _)) list[Id(message)!.Value] = true;
                Count(message);
                break;
            case "totals" or "read" or "done":
                Totals(message.GetProperty("totals"));
                break;
            case "ackDue":
                if (at.Acks) Ack(at, upTo: true);
                break;
            case "ending":
                Lose(cut: true);
                ComeBack(world.Short(200));
                break;
        }
    }

    void Notification(Line at, JsonElement message)
    {
        var id = Id(message)!.Value;
        bool first = at.Seen.Add(id);
        if (!first && message.TryGetProperty("attempt", out var attempt) && attempt.GetInt32() == 1)
        {
            throw world.Wrong($"{name} is sent {id} twice as the first attempt");
        }
        if (world.Sent(id) is { } sent && world.Reference.Reaches(user, sent) is { } address
            && address != message.GetProperty("to").GetString() && at.Current)
            world.Note($"{name} hears {id} by {message.GetProperty("to")}, the reference now says {address}");
        // Of a topic that is only subscribed to: in no inbox and no total.
        bool counted = !message.TryGetProperty("counted", out _);
        if (counted && handled.Add(id)) list[id] = true;
        if (message.TryGetProperty("cursor", out _)) Count(message);
        if (!at.Acks) return;
        if (!calm && first && world.Random.Next(40) == 0) Again(at, id);
        else if (world.Random.Next(3) == 0 || calm) world.After(world.Short(50), () => Ack(at, world.Random.Next(2) == 0 || calm));
    }

    void Count(JsonElement message)
    {
        long position = PositionOf(message.GetProperty("cursor").GetString()!);
        long count = message.GetProperty("unread").GetInt64();
        if (world.TotalsOverTime.TryGetValue(user, out var over) && position > 0)
        {
            int from = over.FindLastIndex(o => o.Head < position);
            if (!over.Skip(Math.Max(0, from)).Any(o => o.Unread == count))
            {
                throw world.Wrong($"{name} hears {count} unread with position {position}; it was never so since: " +
                    $"{string.Join(' ', over.Skip(Math.Max(0, from)))}");
            }
        }
        Totals(message.GetProperty("rev").GetInt64(), message.GetProperty("time").GetString()!, count);
    }

    void Totals(JsonElement totals) =>
        Totals(totals.GetProperty("rev").GetInt64(), totals.GetProperty("asOf").GetString()!, totals.GetProperty("unread").GetInt64());

    /// <summary>Keeps the newest totals: the user's own changes first, then the time.</summary>
    void Totals(long newRev, string newAsOf, long newUnread)
    {
        if (newRev < rev || (newRev == rev && string.CompareOrdinal(newAsOf, asOf) < 0)) return;
        (rev, asOf, unread) = (newRev, newAsOf, newUnread);
    }

    long PositionOf(string sealedPosition) => world.Seal.Open(sealedPosition, out var position) == CursorState.Valid ? position.Value : -1;

    void Advance(Line at, string to, string kind)
    {
        long position = PositionOf(to);
        if (position < 0) return; // from before a restore, still in flight
        if (kind != "notification" && position < at.LastPosition)
        {
            throw world.Wrong($"{name} hears {kind} at {position} after {at.LastPosition}");
        }
        if (position < at.LastPosition) return; // once more
        at.LastPosition = position;
        cursor = to;
    }

    /// <summary>Reads the inbox, as a page does when it opens, when its channels changed, and at a gap.</summary>
    void Refresh()
    {
        var plan = new PlanCommand("main", user);
        world.ProcessNow(plan);
        if (plan.Task.IsFaulted)
        {
            // Tried again as long as this line lives; the next one begins by reading it.
            listFrom = -1;
            var at = line;
            world.After(world.Short(500), () =>
            {
                if (at is not null && line == at) Refresh();
            });
        }
        if (plan.Task.IsFaulted || plan.Task.Result is not { } found) return;
        list.Clear();
        foreach (var item in new InboxReader(world.History).Page(found, long.MaxValue, 10_000, InboxState.All).Items)
        {
            list[item.Entry.Id] = true;
            handled.Add(item.Entry.Id);
        }
        listFrom = found.Head.Value;
        world.Note($"{name} reads its inbox at {listFrom}: {string.Join(' ', list.Keys.Select(i => world.Sent(i)?.Number))}");
    }

    void Say(Line at, string json, Action<DeviceMessage> then)
    {
        if (at.Cut) return;
        int born = world.Life;
        world.After(world.Short(20), () =>
        {
            if (at.Cut || at.Detached || at.Moving || born != world.Life) return;
            at.Session.HeardAnything(world.Clock.Elapsed);
            var message = DeviceMessage.Parse(Encoding.UTF8.GetBytes(json), world.Seal);
            if (message.Problem is { Slug: "foreign-cursor" }) return; // it came before a restore
            if (message.Problem is { } problem) throw world.Wrong($"{name} said {json} and was refused: {problem.Detail}");
            then(message);
        });
    }

    void Ack(Line at, bool upTo)
    {
        if (upTo && cursor is null) return;
        var ids = at.Seen.TakeLast(1 + world.Random.Next(4)).ToList();
        if (!upTo && ids.Count == 0) return;
        bool did = world.Random.Next(2) == 0;
        var json = upTo ? $"{{\"kind\":\"ack\",\"upTo\":\"{cursor}\",\"handled\":{(did ? "true" : "false")}}}"
            : $"{{\"kind\":\"ack\",\"ids\":[{string.Join(',', ids.Select(i => $"\"{i}\""))}]}}";
        Say(at, json, message =>
        {
            var acked = new List<AckedRun>();
            at.Session.Acknowledge(message.Marks!.UpTo?.Position, message.Marks.Ids is { } named ? [.. named] : null,
                world.Clock.Elapsed, acked);
            int born = world.Life;
            world.After(world.Short(100), () => // written behind, and lost with the service
            {
                if (acked.Count > 0 && born == world.Life) world.PostAcks(user, acked, message.Handled, name);
            });
        });
    }

    void Again(Line at, NotificationId id) =>
        Say(at, $"{{\"kind\":\"ack\",\"again\":true,\"ids\":[\"{id}\"]}}",
        message => at.Session.WantAgain([.. message.Marks!.Ids!], world.Clock.Elapsed, out _));
}
