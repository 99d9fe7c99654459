using System.Buffers;
using System.Buffers.Binary;
using System.Runtime.CompilerServices;

namespace Rovett.Core.Wire.WebSockets;

/// <summary>Reads what a client sends (RFC 6455 §5), from bytes cut anywhere. Pure: bytes in, events out. Holds no
/// buffer while nothing is under way.</summary>
/// <param name="maxMessageBytes">A longer message fails with 1009 as soon as its length is known.</param>
public sealed class FrameReader(int maxMessageBytes)
{
    [InlineArray(14)]
    struct Head
    {
        byte first;
    }

    Head head;
    int headLength;
    long remaining;
    Opcode opcode;
    bool final, inPayload;
    uint mask;
    int maskAt;

    byte[] message = [];
    int messageLength;
    bool inMessage;
    Utf8Check utf8;

    byte[] control = [];
    int controlLength;

    /// <summary>The payload of the last event; valid until the next call.</summary>
    public ReadOnlySpan<byte> Payload => opcode >= Opcode.Close ? control.AsSpan(0, controlLength) : message.AsSpan(0, messageLength);

    /// <summary>The close code of the last <see cref="FrameEvent.Close"/> or <see cref="FrameEvent.Failed"/>.</summary>
    public int Code { get; private set; }

    /// <summary>Why it failed.</summary>
    public string Reason { get; private set; } = "";

    /// <summary>Takes bytes until something happened.</summary>
    /// <param name="bytes">What came; cut down to what is left.</param>
    public FrameEvent Read(ref ReadOnlySpan<byte> bytes)
    {
        for (; ; )
        {
            if (!inPayload)
            {
                if (!inMessage && messageLength > 0) Release();
                if (!ReadHead(ref bytes, out var failed)) return failed;
            }
            int take = (int)Math.Min(remaining, bytes.Length);
            if (take > 0)
            {
                if (!Take(bytes[..take])) return Fail(CloseCode.InvalidPayload, "text is not UTF-8");
                bytes = bytes[take..];
                remaining -= take;
            }
            if (remaining > 0) return FrameEvent.NeedMore;
            inPayload = false;
            headLength = 0;
            if (opcode >= Opcode.Close) return Control();
            if (!final) continue;
            inMessage = false;
            if (!utf8.Complete) return Fail(CloseCode.InvalidPayload, "text ends inside a character");
            opcode = Opcode.Text;
            if (messageLength == 0) message = [];
            return FrameEvent.Text;
        }
    }

    /// <summary>Gives the buffer of a finished message back.</summary>
    public void Release()
    {
        if (message.Length > 0) ArrayPool<byte>.Shared.Return(message);
        message = [];
        messageLength = 0;
    }

    bool ReadHead(ref ReadOnlySpan<byte> bytes, out FrameEvent result)
    {
        result = FrameEvent.NeedMore;
        for (; ; )
        {
            int need = headLength < 2 ? 2 : 2 + 4 + (head[1] & 127) switch { 126 => 2, 127 => 8, _ => 0 };
            if (headLength >= 2 && headLength == need) break;
            if (bytes.IsEmpty) return false;
            int take = Math.Min(need - headLength, bytes.Length);
            bytes[..take].CopyTo(head[headLength..]);
            headLength += take;
            bytes = bytes[take..];
            if (headLength == 2 && CheckFirstBytes() is { } wrong)
            {
                result = wrong;
                return false;
            }
        }
        int extended = (head[1] & 127) switch { 126 => 2, 127 => 8, _ => 0 };
        ulong length = extended switch
        {
            2 => BinaryPrimitives.ReadUInt16BigEndian(head[2..]),
            8 => BinaryPrimitives.ReadUInt64BigEndian(head[2..]),
            _ => (ulong)(head[1] & 127),
        };
        if (extended == 8 && length > long.MaxValue) result = Fail(CloseCode.ProtocolError, "a length has its highest bit set");
        else if ((extended == 2 && length < 126) || (extended == 8 && length <= ushort.MaxValue))
        {
            result = Fail(CloseCode.ProtocolError, "a length is not in its shortest form");
        }
        else if (opcode < Opcode.Close && length + (ulong)messageLength > (ulong)maxMessageBytes)
        {
            result = Fail(CloseCode.TooBig, $"a message may have {maxMessageBytes} bytes");
        }
        if (result == FrameEvent.Failed) return false;
        mask = BinaryPrimitives.ReadUInt32LittleEndian(head[(2 + extended)..]);
        maskAt = 0;
        remaining = (long)length;
        inPayload = true;
        (control, controlLength) = (opcode >= Opcode.Close && length > 0 ? new byte[length] : [], 0);
        return true;
    }

    FrameEvent? CheckFirstBytes()
    {
        var found = (Opcode)(head[0] & 15);
        final = (head[0] & 0x80) != 0;
        if ((head[0] & 0x70) != 0) return Fail(CloseCode.ProtocolError, "a reserved bit is set");
        if ((head[1] & 0x80) == 0) return Fail(CloseCode.ProtocolError, "a frame is not masked");
        if (found >= Opcode.Close)
        {
            if (found > Opcode.Pong) return Fail(CloseCode.ProtocolError, "an unknown opcode");
            if (!final || (head[1] & 127) > 125) return Fail(CloseCode.ProtocolError, "a control frame is fragmented or too long");
            opcode = found;
            return null;
        }
        switch (found)
        {
            case Opcode.Continuation when !inMessage: return Fail(CloseCode.ProtocolError, "a continuation of nothing");
            case Opcode.Continuation: break;
            case Opcode.Text when inMessage: return Fail(CloseCode.ProtocolError, "a new message inside a fragmented one");
            case Opcode.Text:
                inMessage = true;
                utf8 = default;
                messageLength = 0;
                break;
            case Opcode.Binary: return Fail(CloseCode.Unsupported, "binary messages are not taken; send text");
            default: return Fail(CloseCode.ProtocolError, "an unknown opcode");
        }
        opcode = found;
        return null;
    }

    bool Take(ReadOnlySpan<byte> bytes)
    {
        Span<byte> target;
        if (opcode >= Opcode.Close)
        {
            target = control.AsSpan(controlLength, bytes.Length);
            controlLength += bytes.Length;
        }
        else
        {
            Grow(messageLength + bytes.Length);
            target = message.AsSpan(messageLength, bytes.Length);
            messageLength += bytes.Length;
        }
        for (int i = 0; i < bytes.Length; i++)
        {
            target[i] = (byte)(bytes[i] ^ (byte)(mask >> (8 * maskAt)));
            maskAt = (maskAt + 1) & 3;
        }
        return opcode >= Opcode.Close || utf8.Take(target);
    }

    FrameEvent Control()
    {
        switch (opcode)
        {
            case Opcode.Ping: return FrameEvent.Ping;
            case Opcode.Pong: return FrameEvent.Pong;
        }
        if (controlLength == 0)
        {
            Code = 1005; // §7.1.5: no code was there
            return FrameEvent.Close;
        }
        if (controlLength == 1) return Fail(CloseCode.ProtocolError, "a close code of one byte");
        int code = BinaryPrimitives.ReadUInt16BigEndian(control);
        if (!CloseCode.MayBeSent(code)) return Fail(CloseCode.ProtocolError, "a close code that may not be sent");
        var check = default(Utf8Check);
        if (!check.Take(control.AsSpan(2, controlLength - 2)) || !check.Complete)
        {
            return Fail(CloseCode.InvalidPayload, "a close reason is not UTF-8");
        }
        Code = code;
        return FrameEvent.Close;
    }

    FrameEvent Fail(int code, string reason)
    {
        Code = code;
        Reason = reason;
        return FrameEvent.Failed;
    }

    void Grow(int size)
    {
        if (message.Length >= size) return;
        var larger = ArrayPool<byte>.Shared.Rent(Math.Max(size, Math.Min(message.Length * 2, maxMessageBytes)));
        message.AsSpan(0, messageLength).CopyTo(larger);
        if (message.Length > 0) ArrayPool<byte>.Shared.Return(message);
        message = larger;
    }
}
