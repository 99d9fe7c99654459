using System.Buffers.Binary;
using System.Diagnostics.CodeAnalysis;
using System.Security.Cryptography;
using System.Text;

namespace Rovett.Core.Wire.WebSockets;

/// <summary>Writes unmasked frames, as a server must (RFC 6455 §5.1).</summary>
public static class FrameWriter
{
    const int KeyLength = 24, KeyBytes = 16;
    static ReadOnlySpan<byte> HandshakeSuffix => "258EAFA5-E914-47DA-95CA-C5AB0DC85B11"u8;

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

    /// <summary>Whether a <c>Sec-WebSocket-Key</c> is 16 bytes in base64, as it must be (RFC 6455 §4.2.1).</summary>
    public static bool IsKey([NotNullWhen(true)] string? key)
    {
        Span<byte> nonce = stackalloc byte[KeyBytes];
        return key?.Length == KeyLength && Convert.TryFromBase64String(key, nonce, out int length) && length == KeyBytes;
    }

    /// <summary>The value of <c>Sec-WebSocket-Accept</c> (RFC 6455 §4.2.2), or null when the key is not 16 bytes in base64.</summary>
    public static string? Accept(string? key)
    {
        if (!IsKey(key)) return null;
        Span<byte> text = stackalloc byte[KeyLength + HandshakeSuffix.Length], digest = stackalloc byte[20];
        Encoding.ASCII.GetBytes(key, text);
        HandshakeSuffix.CopyTo(text[KeyLength..]);
#pragma warning disable CA5350 // RFC 6455 names SHA-1; nothing rests on its strength
        SHA1.HashData(text, digest);
#pragma warning restore CA5350
        return Convert.ToBase64String(digest);
    }
}
