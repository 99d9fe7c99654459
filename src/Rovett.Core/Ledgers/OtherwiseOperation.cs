using System.Buffers;
using System.Globalization;
using System.Text;
using System.Text.Json;
using System.Text.Json.Nodes;
using Rovett.Core.Addresses;
using Rovett.Core.Notifications;
using Rovett.Core.Store;

namespace Rovett.Core.Ledgers;

/// <summary>Does what a missed deadline is to do: sends notifications at once; webhook calls and e-mails are noted in the same
/// commit, and made afterwards.</summary>
static class OtherwiseOperation
{
    /// <summary>Begins everything that a deadline does otherwise.</summary>
    /// <param name="ledger">The ledger.</param>
    /// <param name="space">The space.</param>
    /// <param name="notification">The notification whose deadline was missed.</param>
    /// <param name="deadline">The deadline.</param>
    /// <param name="detail">What was missed, as JSON.</param>
    public static void Begin(Ledger ledger, SpaceState space, EntryRow notification, DeadlineRow deadline, string detail)
    {
        foreach (var row in deadline.Otherwise)
        {
            if (row.What is OtherwiseNotification n)
            {
                Send(ledger, space, notification, deadline.Number, row, n.Draft);
                continue;
            }
            var where = row.What is OtherwiseWebhook w ? ("webhook", w.Name) : ("email", ((OtherwiseMail)row.What).To);
            var outbound = new OutboundRow(0, space.Due, notification.Position.Value, deadline.Number, row.Item, space.Due, 0, null,
                Detail(space, notification, deadline, row, where, detail));
            ledger.Store.AddOutbound(space.Id, outbound);
            Save(ledger, space, notification.Position.Value, deadline.Number, row with { State = OtherwiseState.Waiting });
            ledger.Observe(o => o.Outbound(space.Row.Name));
        }
    }

    /// <summary>Notes what became of one.</summary>
    public static void Save(Ledger ledger, SpaceState space, long position, int deadline, OtherwiseRow row) =>
        ledger.Store.SaveOtherwise(space.Id, position, deadline, row with { Time = space.Time });

    static void Send(Ledger ledger, SpaceState space, EntryRow notification, int deadline, OtherwiseRow row, Draft draft)
    {
        // Not to a person who is being erased, which would create that person again.
        var erased = ledger.Store.Erasures(space.Id).Where(e => e.Position > notification.Position.Value).Select(e => e.Name).ToHashSet();
        if (erased.Count > 0)
        {
            bool Stays(Address address) => address.Kind != AddressKind.User || !erased.Contains(address.Name);
            draft = draft with { To = [.. draft.To.Where(Stays)], Except = [.. draft.Except.Where(Stays)] };
        }
        var state = OtherwiseState.Ended;
        NotificationId? sent = null;
        if (draft.To.Count > 0)
        {
            try
            {
                sent = new SendOperation(ledger, space, draft).Store([]).Id;
                state = OtherwiseState.Done;
            }
            catch (ProblemException refused)
            {
                // It was possible when the deadline was set. Refused before anything was written, and not lost.
                var aside = new JsonObject
                {
                    ["addressing"] = new JsonArray([.. draft.Addressing.Lines.Split('\n').Select(line => (JsonNode)line)]),
                    ["notification"] = JsonNode.Parse("{" + Encoding.UTF8.GetString(draft.Body) + "}")
                };
                ledger.SetAside(space,
                    new SetAsideRow(space.Time, AsideKind.Otherwise, notification.Position.Value, refused.Problem.Detail,
                    aside.ToJsonString()), $"what the missed deadline of {notification.Id} was to send");
                state = OtherwiseState.SetAside;
            }
        }
        Save(ledger, space, notification.Position.Value, deadline, row with { State = state, Sent = sent });
    }

    /// <summary>The recipient, the id and the content. The id is the same for every attempt, so that repeats can be recognised.</summary>
    static string Detail(SpaceState space, EntryRow notification, DeadlineRow deadline, OtherwiseRow row,
        (string Kind, string Target) where, string missed)
    {
        var buffer = new ArrayBufferWriter<byte>(512);
        using (var json = new Utf8JsonWriter(buffer, JsonText.WriterOptions))
        {
            json.WriteStartObject();
            json.WriteString(where.Kind, where.Target);
            json.WriteString("id", string.Create(CultureInfo.InvariantCulture,
                $"otherwise_{notification.Id}_{deadline.Number}_{row.Item}"));
            if (row.What is OtherwiseMail mail)
            {
                if (mail.Title is not null) json.WriteString("title", mail.Title);
                if (mail.Body is not null) json.WriteString("body", mail.Body);
            }
            json.WriteString("missed", deadline.Ended!.Value.ToString());
            json.WriteString("space", space.Row.Name);
            json.WritePropertyName("deadline");
            json.WriteRawValue(missed);
            json.WritePropertyName("notification");
            json.WriteRawValue($"{{\"id\":\"{notification.Id}\",{Encoding.UTF8.GetString(notification.Body)}}}");
            json.WriteEndObject();
        }
        return Encoding.UTF8.GetString(buffer.WrittenSpan);
    }
}
