using System.Buffers.Binary;

namespace Rovett.Core.Values;

/// <summary>The id of a notification: 48 bits of milliseconds, 80 bits of chance, written as 26 characters in
/// Crockford's base 32. It says nothing of how much else was sent.</summary>
public readonly record struct NotificationId(UInt128 Value) : IUtf8SpanFormattable
{
    const int Length = 26;
    const string Alphabet = "0123456789ABCDEFGHJKMNPQRSTVWXYZ";

    /// <summary>Draws a new id for a notification stored at <paramref name="time"/>.</summary>
    public static NotificationId New(DateTimeOffset time)
    {
        Span<byte> chance = stackalloc byte[16];
        Chance.Fill(chance);
        var low = BinaryPrimitives.ReadUInt128BigEndian(chance) & ((UInt128.One << 80) - 1);
        return new NotificationId(((UInt128)(ulong)time.ToUnixTimeMilliseconds() << 80) | low);
    }

    /// <summary>When it was drawn.</summary>
    public DateTimeOffset Time => DateTimeOffset.FromUnixTimeMilliseconds((long)(Value >> 80));

    /// <summary>The lowest id of a time.</summary>
    public static NotificationId First(DateTimeOffset time) => new((UInt128)(ulong)time.ToUnixTimeMilliseconds() << 80);

    /// <summary>Reads the 26 characters; false when they are anything else.</summary>
    public static bool TryParse(ReadOnlySpan<char> text, out NotificationId id)
    {
        id = default;
        if (text.Length != Length || text[0] > '7') return false;
        UInt128 value = 0;
        foreach (char c in text)
        {
            int digit = Alphabet.IndexOf(char.ToUpperInvariant(c), StringComparison.Ordinal);
            if (digit < 0) return false;
            value = (value << 5) | (uint)digit;
        }
        id = new NotificationId(value);
        return true;
    }

    /// <inheritdoc/>
    public override string ToString() => string.Create(Length, this, static (span, id) =>
    {
        Span<byte> text = stackalloc byte[Length];
        id.TryFormat(text, out _, default, null);
        for (int i = 0; i < Length; i++) span[i] = (char)text[i];
    });

    /// <inheritdoc/>
    public bool TryFormat(Span<byte> utf8Destination, out int bytesWritten, ReadOnlySpan<char> format, IFormatProvider? provider)
    {
        bytesWritten = utf8Destination.Length < Length ? 0 : Length;
        if (bytesWritten == 0) return false;
        ulong low = (ulong)Value, high = (ulong)(Value >> 64);
        for (int i = Length - 1; i >= 0; i--)
        {
            utf8Destination[i] = (byte)Alphabet[(int)(low & 31)];
            low = (low >> 5) | (high << 59);
            high >>= 5;
        }
        return true;
    }
}
