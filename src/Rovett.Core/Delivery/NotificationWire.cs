using System.Buffers.Text;
using System.Text;
using Rovett.Core.AddressLogs;
using Rovett.Core.WebSockets;

namespace Rovett.Core.Delivery;

/// <summary>A stored notification on its way out: shared by everybody it reaches.</summary>
public sealed class OutgoingNotification(Position position, StoredTime time, NotificationId id, string cursor, byte[] body)
{
    readonly Lock gate = new();
    NotificationWire[] wires = [];
    int dispatched;

    /// <summary>Its entry.</summary>
    public Position Position { get; } = position;
    /// <summary>When it was stored.</summary>
    public StoredTime Time { get; } = time;
    /// <summary>Its id.</summary>
    public NotificationId Id { get; } = id;
    /// <summary>The sealed position.</summary>
    public string Cursor { get; } = cursor;
    /// <summary>The members that are the same for everybody.</summary>
    public byte[] Body { get; } = body;
    /// <summary>How many users it was written to since this process started.</summary>
    public int Dispatched => Volatile.Read(ref dispatched);
    /// <summary>What its finished bytes take in memory, in bytes.</summary>
    public int Weight => 400 + Body.Length * 4;

    /// <summary>Counts one more user.</summary>
    public void CountDispatched() => Interlocked.Increment(ref dispatched);

    /// <summary>The finished bytes for those whom <paramref name="address"/> reached.</summary>
    public NotificationWire WireFor(string address)
    {
        foreach (var wire in Volatile.Read(ref wires))
        {
            if (wire.Address == address) return wire;
        }
        lock (gate)
        {
            foreach (var wire in wires)
            {
                if (wire.Address == address) return wire;
            }
            var made = new NotificationWire(this, address);
            Volatile.Write(ref wires, [.. wires, made]);
            return made;
        }
    }
}

/// <summary>The bytes of one notification message as they go over each transport. The tail — <c>rev</c> and
/// <c>unread</c> — has a fixed width and is written over per person; all before it is the same for everybody whom
/// <see cref="Address"/> reached.</summary>
public sealed class NotificationWire
{
    /// <summary>Digits of <c>rev</c> and of <c>unread</c>, padded with blanks.</summary>
    public const int NumberWidth = 10;
    const int UnreadFromEnd = 1 + NumberWidth;
    const int RevFromEnd = UnreadFromEnd + 10 + NumberWidth; // 10: the length of ,"unread":

    byte[]? webSocket, sse;
    readonly byte[] json;

    internal NotificationWire(OutgoingNotification notification, string address)
    {
        Notification = notification;
        Address = address;
        json = Json(notification, address, attempt: 1);
    }

    /// <summary>The notification.</summary>
    public OutgoingNotification Notification { get; }

    /// <summary>The address that reached the person.</summary>
    public string Address { get; }

    /// <summary>How many bytes <see cref="Write"/> writes.</summary>
    public int Length(TransportKind transport) => (transport == TransportKind.WebSocket ? WebSocket : Sse).Length;

    byte[] WebSocket => webSocket ??= FrameWriter.Text(json);

    byte[] Sse => sse ??= SseWriter.Event("notification", Notification.Cursor, json);

    /// <summary>Writes the message for one person.</summary>
    /// <param name="transport">How it travels.</param>
    /// <param name="rev">The number of the person's own changes.</param>
    /// <param name="unread">The person's unread total.</param>
    /// <param name="into">At least <see cref="Length"/> bytes.</param>
    public int Write(TransportKind transport, long rev, long unread, Span<byte> into)
    {
        var source = transport == TransportKind.WebSocket ? WebSocket : Sse;
        source.CopyTo(into);
        int end = source.Length - (transport == TransportKind.WebSocket ? 0 : 2);
        Utf8Formatter.TryFormat(rev, into.Slice(end - RevFromEnd, NumberWidth), out _);
        Utf8Formatter.TryFormat(unread, into.Slice(end - UnreadFromEnd, NumberWidth), out _);
        return source.Length;
    }

    static byte[] Json(OutgoingNotification n, string address, int attempt)
    {
        var json = new MessageBuilder("notification");
        json.Writer.WriteString("cursor", n.Cursor);
        json.Writer.WriteString("id", n.Id.ToString());
        json.Writer.WriteString("to", address);
        var head = json.Open(); // without the closing brace
        var blanks = new string(' ', NumberWidth);
        var tail = Encoding.UTF8.GetBytes($",\"time\":\"{n.Time}\",\"attempt\":{attempt},\"rev\":{blanks},\"unread\":{blanks}}}");
        byte[] comma = n.Body.Length > 0 ? [(byte)','] : [];
        return [.. head, .. comma, .. n.Body, .. tail];
    }
}

/// <summary>The ways a session can be connected.</summary>
public enum TransportKind
{
    /// <summary>RFC 6455.</summary>
    WebSocket,
    /// <summary>Server-sent events (WHATWG HTML).</summary>
    Sse,
}

/// <summary>Writes events of a stream (WHATWG HTML §9.2).</summary>
public static class SseWriter
{
    /// <summary>One event whose data is one line of JSON.</summary>
    public static byte[] Event(string name, string? id, ReadOnlySpan<byte> json)
    {
        var head = Encoding.UTF8.GetBytes(id is null ? $"event: {name}\ndata: " : $"id: {id}\nevent: {name}\ndata: ");
        var bytes = new byte[head.Length + json.Length + 2];
        head.CopyTo(bytes, 0);
        json.CopyTo(bytes.AsSpan(head.Length));
        bytes[^2] = bytes[^1] = (byte)'\n';
        return bytes;
    }
}
