using System.Globalization;
using System.Security.Cryptography;

namespace Rovett.Core.AddressLogs;

/// <summary>An entry's place in its space: 1, 2, 3 … in commit order. 0 is "before everything". For operators and
/// backends; users only ever see it sealed in a cursor (<see cref="CursorSeal"/>).</summary>
public readonly record struct Position(long Value) : IComparable<Position>
{
    /// <inheritdoc/>
    public int CompareTo(Position other) => Value.CompareTo(other.Value);
    /// <summary>Earlier than.</summary>
    public static bool operator <(Position a, Position b) => a.Value < b.Value;
    /// <summary>Later than.</summary>
    public static bool operator >(Position a, Position b) => a.Value > b.Value;
    /// <summary>Not later than.</summary>
    public static bool operator <=(Position a, Position b) => a.Value <= b.Value;
    /// <summary>Not earlier than.</summary>
    public static bool operator >=(Position a, Position b) => a.Value >= b.Value;
    /// <inheritdoc/>
    public override string ToString() => Value.ToString(CultureInfo.InvariantCulture);
}

/// <summary>The time an entry was stored: microseconds since 1970-01-01 UTC, strictly increasing within a space.</summary>
public readonly record struct StoredTime(long Micros) : IComparable<StoredTime>, IUtf8SpanFormattable
{
    /// <inheritdoc/>
    public int CompareTo(StoredTime other) => Micros.CompareTo(other.Micros);
    /// <summary>Before.</summary>
    public static bool operator <(StoredTime a, StoredTime b) => a.Micros < b.Micros;
    /// <summary>After.</summary>
    public static bool operator >(StoredTime a, StoredTime b) => a.Micros > b.Micros;
    /// <summary>Not after.</summary>
    public static bool operator <=(StoredTime a, StoredTime b) => a.Micros <= b.Micros;
    /// <summary>Not before.</summary>
    public static bool operator >=(StoredTime a, StoredTime b) => a.Micros >= b.Micros;

    /// <summary>RFC 3339 with six decimals, as it stands in every message.</summary>
    public override string ToString() => ToDateTime().ToString("yyyy-MM-dd'T'HH:mm:ss.ffffff'Z'", CultureInfo.InvariantCulture);

    /// <inheritdoc/>
    public bool TryFormat(Span<byte> utf8Destination, out int bytesWritten, ReadOnlySpan<char> format, IFormatProvider? provider)
    {
        // The round-trip format, which is quick, has a seventh decimal.
        if (!ToDateTime().TryFormat(utf8Destination, out bytesWritten, "O", CultureInfo.InvariantCulture)) return false;
        utf8Destination[--bytesWritten - 1] = (byte)'Z';
        return true;
    }

    /// <summary>The same instant for .NET, exact to the microsecond.</summary>
    public DateTime ToDateTime() => DateTime.UnixEpoch.AddTicks(Micros * 10);

    /// <summary>The stored form of a clock reading.</summary>
    public static StoredTime From(DateTimeOffset time) => new((time.UtcTicks - DateTime.UnixEpoch.Ticks) / 10);
}

/// <summary>One life of a store: random, and replaced when a backup is restored.</summary>
public readonly record struct Epoch(Guid Value)
{
    /// <summary>A new life.</summary>
    public static Epoch New() => new(Guid.NewGuid());
    /// <inheritdoc/>
    public override string ToString() => Value.ToString("N");
}

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
        RandomNumberGenerator.Fill(chance);
        var low = System.Buffers.Binary.BinaryPrimitives.ReadUInt128BigEndian(chance) & ((UInt128.One << 80) - 1);
        return new NotificationId(((UInt128)(ulong)time.ToUnixTimeMilliseconds() << 80) | low);
    }

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
