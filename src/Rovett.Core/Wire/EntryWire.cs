using System.Buffers;
using System.Buffers.Text;
using System.Text.Json;
using Rovett.Core.Notifications;
using Rovett.Core.Wire.Sse;
using Rovett.Core.Wire.WebSockets;

namespace Rovett.Core.Wire;

/// <summary>The bytes of one message as they go over each transport. The tail — <c>rev</c> and <c>unread</c> — has a
/// fixed width and is written over per person; all before it is the same for everybody whom <see cref="Address"/>
/// reached.</summary>
public sealed class EntryWire
{
    /// <summary>Digits of <c>rev</c> and of <c>unread</c>, padded with blanks.</summary>
    public const int NumberWidth = 10;
    const int UnreadFromEnd = 1 + NumberWidth;
    const int RevFromEnd = UnreadFromEnd + 10 + NumberWidth; // 10: the length of ,"unread":

    [ThreadStatic] static (string Text, byte[] Json) lastAddress; // one page or commit has few

    byte[]? webSocket, sse, longPoll;

    internal EntryWire(OutgoingEntry entry, string address, int attempt, bool read, bool counted) =>
        (Entry, Address, Attempt, Read, IsCounted) = (entry, address, attempt, read, counted);

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

    internal bool Is(string address, int attempt, bool read, bool counted) =>
        Attempt == attempt && Read == read && IsCounted == counted && Address == address;

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
        if (lastAddress.Text != Address)
            lastAddress = (Address, JsonEncodedText.Encode(Address, JsonText.WriterOptions.Encoder).EncodedUtf8Bytes.ToArray());
        var address = lastAddress.Json;
        var body = Entry.Sent;
        var buffer = ArrayPool<byte>.Shared.Rent(256 + Entry.Cursor.Length + address.Length + body.Length);
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
        if (body.Length > 0) text.Add((byte)',');
        text.Add(body);
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
