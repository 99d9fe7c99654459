using System.Buffers;
using System.Text.Json;
using Rovett.Core.Notifications;
using Rovett.Core.Store;
using Rovett.Service.Http;
using Rovett.Service.Spaces;
using Rovett.Storage.Sql;

namespace Rovett.Service.Receipts;

/// <summary>A receipt as backends get it. <see cref="Cursor"/> is null on all but the last that one act of a person or
/// device made, so that readers who continue after it miss none.</summary>
public sealed record ReceiptMessage(string? Cursor, string State, string Type, byte[] Json);

/// <summary>Reads stored receipts as messages, one for each notification that an act concerned.</summary>
public sealed class ReceiptReader(SqlHistory history)
{
    /// <summary>The numbers of the oldest and the newest receipt kept; 0 when there are none.</summary>
    public (long Oldest, long Newest) Bounds(SpaceRuntime space) => history.ReceiptBounds(space.Id);

    const int EnoughMessages = 500;

    /// <summary>The receipts after a number, oldest first: at most so many acts, and no more once there are messages enough.</summary>
    /// <returns>The messages, and the number to go on after.</returns>
    public (List<ReceiptMessage> Messages, long Next) After(SpaceRuntime space, long number, int rows)
    {
        var messages = new List<ReceiptMessage>();
        var traces = new Dictionary<NotificationId, string?>();
        foreach (var row in history.ReceiptsAfter(space.Id, number, rows))
        {
            if (messages.Count >= EnoughMessages) break;
            number = row.Number;
            var user = row.Person == 0 ? null : history.NameOf(row.Person);
            // Of a run only those whose receipts are kept for each person; what retention took has nothing to tell.
            var about = history.NotificationsOf(space.Id, row).Where(n => row.Person == 0 || n.Traits.Receipts == ReceiptLevel.Full)
                .ToList();
            for (int i = 0; i < about.Count; i++)
            {
                var id = about[i].Id;
                if (!traces.TryGetValue(id, out var trace)) traces[id] = trace = history.TraceOf(space.Id, id);
                var cursor = i == about.Count - 1 ? space.Receipts.Seal(new Position(row.Number)) : null;
                messages.Add(Message(row, about[i], user, trace, cursor));
            }
        }
        return (messages, number);
    }

    static ReceiptMessage Message(ReceiptRow row, EntryRow notification, string? user, string? trace, string? cursor)
    {
        var buffer = new ArrayBufferWriter<byte>(256);
        var state = NameOf(row.State);
        using (var json = new Utf8JsonWriter(buffer, Json.Writing))
        {
            json.WriteStartObject();
            json.WriteString("kind", "receipt");
            if (cursor is not null) json.WriteString("cursor", cursor);
            json.WriteString("state", state);
            json.WriteString("id", notification.Id.ToString());
            json.WriteString("type", notification.Traits.Type);
            if (notification.Traits.Subject is { } subject) json.WriteString("subject", subject);
            // A person who was erased keeps a pseudonym.
            if (user is not null) json.WriteString("user", ErasedName.Shown(user));
            if (row.Device.Length > 0) json.WriteString("device", row.Device);
            json.WriteString("time", row.Time.ToString());
            if (trace is not null) json.WriteString("trace", trace);
            if (row.State is ReceiptState.DeadlineMet or ReceiptState.DeadlineMissed)
            {
                json.WritePropertyName("deadline");
                json.WriteRawValue(row.Detail);
            }
            else if (row.Detail.Length > 0) json.WriteString("by", row.Detail); // who took it or gave it back; what replaced it
            json.WriteEndObject();
        }
        return new ReceiptMessage(cursor, state, notification.Traits.Type, buffer.WrittenSpan.ToArray());
    }

    /// <summary>Every state a receipt can tell of.</summary>
    public static readonly IReadOnlyList<string> States = [.. Enum.GetValues<ReceiptState>().Select(NameOf)];

    /// <summary>The state in messages: <c>received</c>, <c>deadlineMissed</c> …</summary>
    static string NameOf(ReceiptState state) => JsonNamingPolicy.CamelCase.ConvertName(state.ToString());
}
