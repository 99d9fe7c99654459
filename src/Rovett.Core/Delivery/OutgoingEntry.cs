using System.Buffers;
using System.Buffers.Text;
using System.Globalization;
using System.Text;
using System.Text.Json;
using Rovett.Core.AddressLogs;
using Rovett.Core.Ledger;
using Rovett.Core.WebSockets;

namespace Rovett.Core.Delivery;

/// <summary>A stored entry on its way out — a notification, or what became of one — shared by everybody it reaches.</summary>
public sealed class OutgoingEntry(EntryKind kind, Position position, StoredTime time, NotificationId id, string cursor, byte[] body)
{
    const int Lanes = 8, LaneSpacing = 16;

    readonly Lock gate = new();
    EntryWire[] wires = [];
    int[]? dispatched;

    /// <summary>What it says.</summary>
    public EntryKind Kind { get; } = kind;
    /// <summary>Its entry.</summary>
    public Position Position { get; } = position;
    /// <summary>When it was stored.</summary>
    public StoredTime Time { get; } = time;
    /// <summary>The id of the notification.</summary>
    public NotificationId Id { get; } = id;
    /// <summary>The sealed position.</summary>
    public string Cursor { get; } = cursor;
    /// <summary>The members that are the same for everybody.</summary>
    public byte[] Body { get; } = body;
    /// <summary>How many users it was written to since this process started.</summary>
    public int Dispatched => Volatile.Read(ref dispatched)?.Sum() ?? 0;
    /// <summary>What its finished bytes take in memory, in bytes.</summary>
    public int Weight => 400 + Body.Length * 4;
    /// <summary>True for a notification, which is acknowledged; false for what became of one.</summary>
    public bool IsNotification => Kind == EntryKind.Notification;

    /// <summary>The <c>kind</c> of its message.</summary>
    public string KindName => NameOf(Kind);

    /// <summary>The <c>kind</c> of the message of an entry.</summary>
    public static string NameOf(EntryKind kind) => kind switch
    {
        EntryKind.Notification => "notification",
        EntryKind.Withdrawn => "withdrawn",
        EntryKind.Replaced => "replaced",
        EntryKind.Expired => "expired",
        EntryKind.Taken => "taken",
        EntryKind.Released => "released",
        _ => throw new ArgumentOutOfRangeException(nameof(kind), kind, "Nobody is sent such an entry."),
    };

    /// <summary>Counts one more user.</summary>
    /// <param name="lane">Writers at work at the same time give different numbers, so as not to wait for each other's cache line.</param>
    public void CountDispatched(int lane)
    {
        var cells = Volatile.Read(ref dispatched) ?? Interlocked.CompareExchange(ref dispatched, new int[Lanes * LaneSpacing], null) ?? dispatched;
        Interlocked.Increment(ref cells[(int)((uint)lane % Lanes) * LaneSpacing]);
    }

    /// <summary>The finished bytes for those whom <paramref name="address"/> reached.</summary>
    /// <param name="address">The address.</param>
    /// <param name="attempt">1, and more each time it is written to the same device again.</param>
    /// <param name="read">It comes read, because the user is looking at what it is about.</param>
    /// <param name="counted">False for a session that has only subscribed: it is in no inbox and no total.</param>
    public EntryWire WireFor(string address, int attempt = 1, bool read = false, bool counted = true)
    {
        foreach (var wire in Volatile.Read(ref wires))
        {
            if (wire.Is(address, attempt, read, counted)) return wire;
        }
        lock (gate)
        {
            foreach (var wire in wires)
            {
                if (wire.Is(address, attempt, read, counted)) return wire;
            }
            var made = new EntryWire(this, address, attempt, read, counted);
            if (attempt == 1 || wires.Length < 32) Volatile.Write(ref wires, [.. wires, made]);
            return made;
        }
    }
}

/// <summary>The bytes of one message as they go over each transport. The tail — <c>rev</c> and <c>unread</c> — has a
/// fixed width and is written over per person; all before it is the same for everybody whom <see cref="Address"/>
/// reached.</summary>
public sealed class EntryWire
{
    /// <summary>Digits of <c>rev</c> and of <c>unread</c>, padded with blanks.</summary>
    public const int NumberWidth = 10;
    const int UnreadFromEnd = 1 + NumberWidth;
    const int RevFromEnd = UnreadFromEnd + 10 + NumberWidth; // 10: the length of ,"unread":

    byte[]? webSocket, sse, longPoll;

    internal EntryWire(OutgoingEntry entry, string address, int attempt, bool read, bool counted) => (Entry, Address, Attempt, Read, IsCounted) = (entry, address, attempt, read, counted);

    /// <summary>The entry.</summary>
    public OutgoingEntry Entry { get; }

    /// <summary>The address that reached the person.</summary>
    public string Address { get; }

    /// <summary>How often it was written to the device, this time included.</summary>
    public int Attempt { get; }

    /// <summary>Whether it comes read.</summary>
    public bool Read { get; }

    /// <summary>Whether it is in the person's inbox and totals.</summary>
    public bool IsCounted { get; }

    internal bool Is(string address, int attempt, bool read, bool counted) => Attempt == attempt && Read == read && IsCounted == counted && Address == address;

    /// <summary>How many bytes <see cref="Write"/> writes.</summary>
    public int Length(TransportKind transport) => Source(transport).Length;

    byte[] Source(TransportKind transport) => transport switch
    {
        TransportKind.WebSocket => webSocket ??= Build(static (_, json) => FrameWriter.Text(json)),
        TransportKind.Sse => sse ??= Build(static (entry, json) => SseWriter.Event(entry.KindName, entry.Cursor, json)),
        _ => longPoll ??= Build(static (_, json) => LongPoll.Member(json)),
    };

    /// <summary>Bytes of the framing after the JSON.</summary>
    static int Trailing(TransportKind transport) => transport switch { TransportKind.WebSocket => 0, TransportKind.Sse => 2, _ => 1 };

    /// <summary>Writes the message for one person.</summary>
    /// <param name="transport">How it travels.</param>
    /// <param name="rev">The number of the person's own changes.</param>
    /// <param name="unread">The person's unread total.</param>
    /// <param name="into">At least <see cref="Length"/> bytes.</param>
    public int Write(TransportKind transport, long rev, long unread, Span<byte> into)
    {
        var source = Source(transport);
        source.CopyTo(into);
        int end = source.Length - Trailing(transport);
        Utf8Formatter.TryFormat(rev, into.Slice(end - RevFromEnd, NumberWidth), out _);
        Utf8Formatter.TryFormat(unread, into.Slice(end - UnreadFromEnd, NumberWidth), out _);
        return source.Length;
    }

    delegate byte[] Framing(OutgoingEntry entry, ReadOnlySpan<byte> json);

    byte[] Build(Framing framing)
    {
        var address = JsonEncodedText.Encode(Address, MessageBuilder.Options.Encoder).EncodedUtf8Bytes;
        var buffer = ArrayPool<byte>.Shared.Rent(256 + Entry.Cursor.Length + address.Length + Entry.Body.Length);
        var text = new Utf8Text(buffer);
        text.Add("{\"kind\":\""u8);
        text.Add(Entry.KindName);
        text.Add("\",\"cursor\":\""u8);
        text.Add(Entry.Cursor);
        text.Add("\",\"id\":\""u8);
        text.Add(Entry.Id);
        text.Add((byte)'"');
        if (Entry.Kind is EntryKind.Notification or EntryKind.Released)
        {
            text.Add(",\"to\":\""u8);
            text.Add(address);
            text.Add((byte)'"');
        }
        if (Entry.Body.Length > 0) text.Add((byte)',');
        text.Add(Entry.Body);
        text.Add(",\"time\":\""u8);
        text.Add(Entry.Time);
        text.Add((byte)'"');
        if (Read) text.Add(",\"read\":true"u8);
        if (!IsCounted && Entry.IsNotification) text.Add(",\"counted\":false"u8);
        if (Entry.IsNotification)
        {
            text.Add(",\"attempt\":"u8);
            text.Add(Attempt);
        }
        text.Add(",\"rev\":          ,\"unread\":          }"u8); // the blanks: NumberWidth each
        var framed = framing(Entry, text.Written);
        ArrayPool<byte>.Shared.Return(buffer);
        return framed;
    }
}

/// <summary>Text put together in a buffer that is long enough.</summary>
ref struct Utf8Text(Span<byte> buffer)
{
    readonly Span<byte> buffer = buffer;
    int length;

    public readonly ReadOnlySpan<byte> Written => buffer[..length];

    public void Add(byte one) => buffer[length++] = one;

    public void Add(ReadOnlySpan<byte> text)
    {
        text.CopyTo(buffer[length..]);
        length += text.Length;
    }

    public void Add(string text) => length += Encoding.UTF8.GetBytes(text, buffer[length..]);

    public void Add<T>(T value) where T : struct, IUtf8SpanFormattable
    {
        if (!value.TryFormat(buffer[length..], out int written, default, CultureInfo.InvariantCulture)) throw new InvalidOperationException("The buffer is too short.");
        length += written;
    }
}

/// <summary>The ways a session can be connected.</summary>
public enum TransportKind
{
    /// <summary>RFC 6455.</summary>
    WebSocket,
    /// <summary>Server-sent events (WHATWG HTML).</summary>
    Sse,
    /// <summary>Requests that wait for an answer (RFC 7240's <c>wait</c>).</summary>
    LongPoll,
}

/// <summary>Writes messages as members of a JSON array, each with the comma after it.</summary>
public static class LongPoll
{
    /// <summary>One member.</summary>
    public static byte[] Member(ReadOnlySpan<byte> json) => [.. json, (byte)','];
}

/// <summary>Writes events of a stream (WHATWG HTML §9.2).</summary>
public static class SseWriter
{
    /// <summary>One event whose data is JSON, put on one line.</summary>
    public static byte[] Event(string name, string? id, ReadOnlySpan<byte> json)
    {
        var head = Encoding.UTF8.GetBytes(id is null ? $"event: {name}\ndata: " : $"id: {id}\nevent: {name}\ndata: ");
        var bytes = new byte[head.Length + json.Length + 2];
        head.CopyTo(bytes, 0);
        var data = bytes.AsSpan(head.Length, json.Length);
        json.CopyTo(data);
        // A line break would end the field, and only ever stands between two tokens of JSON: a space means the same there.
        data.Replace((byte)'\n', (byte)' ');
        data.Replace((byte)'\r', (byte)' ');
        bytes[^2] = bytes[^1] = (byte)'\n';
        return bytes;
    }
}
