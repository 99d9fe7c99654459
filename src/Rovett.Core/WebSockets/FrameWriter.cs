using System.Buffers.Binary;
using System.Security.Cryptography;
using System.Text;

namespace Rovett.Core.WebSockets;

/// <summary>Opcodes of RFC 6455 §5.2.</summary>
public enum Opcode : byte
{
    /// <summary>Goes on with a fragmented message.</summary>
    Continuation = 0,
    /// <summary>UTF-8 text.</summary>
    Text = 1,
    /// <summary>Bytes.</summary>
    Binary = 2,
    /// <summary>§5.5.1.</summary>
    Close = 8,
    /// <summary>§5.5.2.</summary>
    Ping = 9,
    /// <summary>§5.5.3.</summary>
    Pong = 10,
}

/// <summary>Close codes of RFC 6455 §7.4.1 that the service uses.</summary>
public static class CloseCode
{
    /// <summary>Done.</summary>
    public const int Normal = 1000;
    /// <summary>The service goes down.</summary>
    public const int GoingAway = 1001;
    /// <summary>The peer broke the protocol.</summary>
    public const int ProtocolError = 1002;
    /// <summary>Binary, where only text is taken.</summary>
    public const int Unsupported = 1003;
    /// <summary>Text that is not UTF-8.</summary>
    public const int InvalidPayload = 1007;
    /// <summary>Not let in.</summary>
    public const int PolicyViolation = 1008;
    /// <summary>A message over the limit.</summary>
    public const int TooBig = 1009;

    /// <summary>Whether a peer may send this code (§7.4).</summary>
    public static bool MayBeSent(int code) => code is >= 1000 and <= 1003 or >= 1007 and <= 1014 or >= 3000 and <= 4999;
}

/// <summary>Writes unmasked frames, as a server must (RFC 6455 §5.1).</summary>
public static class FrameWriter
{
    static readonly byte[] HandshakeSuffix = Encoding.ASCII.GetBytes("258EAFA5-E914-47DA-95CA-C5AB0DC85B11");

    /// <summary>A whole text message in one frame.</summary>
    public static byte[] Text(ReadOnlySpan<byte> payload) => Frame(Opcode.Text, payload);

    /// <summary>A close frame with its code and reason.</summary>
    public static byte[] Close(int code, string reason)
    {
        Span<byte> payload = stackalloc byte[125];
        BinaryPrimitives.WriteUInt16BigEndian(payload, (ushort)code);
        int length = Encoding.UTF8.GetByteCount(reason) <= 123 ? Encoding.UTF8.GetBytes(reason, payload[2..]) : 0;
        return Frame(Opcode.Close, payload[..(2 + length)]);
    }

    /// <summary>One unfragmented frame.</summary>
    public static byte[] Frame(Opcode opcode, ReadOnlySpan<byte> payload)
    {
        int head = payload.Length < 126 ? 2 : payload.Length <= ushort.MaxValue ? 4 : 10;
        var frame = new byte[head + payload.Length];
        frame[0] = (byte)(0x80 | (byte)opcode);
        if (head == 2) frame[1] = (byte)payload.Length;
        else if (head == 4)
        {
            frame[1] = 126;
            BinaryPrimitives.WriteUInt16BigEndian(frame.AsSpan(2), (ushort)payload.Length);
        }
        else
        {
            frame[1] = 127;
            BinaryPrimitives.WriteUInt64BigEndian(frame.AsSpan(2), (ulong)payload.Length);
        }
        payload.CopyTo(frame.AsSpan(head));
        return frame;
    }

    /// <summary>The value of <c>Sec-WebSocket-Accept</c> (RFC 6455 §4.2.2), or null when the key is not 16 bytes in base64.</summary>
    public static string? Accept(string? key)
    {
        Span<byte> nonce = stackalloc byte[16];
        if (key is null || key.Length != 24 || !Convert.TryFromBase64String(key, nonce, out int length) || length != 16) return null;
        Span<byte> digest = stackalloc byte[20];
#pragma warning disable CA5350 // RFC 6455 names SHA-1; nothing rests on its strength
        SHA1.HashData([.. Encoding.ASCII.GetBytes(key), .. HandshakeSuffix], digest);
#pragma warning restore CA5350
        return Convert.ToBase64String(digest);
    }
}
