using System.Globalization;

namespace Rovett.Core.Values;

/// <summary>The time an entry was stored: microseconds since 1970-01-01 UTC, strictly increasing within a space.</summary>
public readonly record struct StoredTime(long Micros) : IComparable<StoredTime>, IUtf8SpanFormattable
{
    /// <summary>Later than all others.</summary>
    public static StoredTime Max { get; } = new(long.MaxValue);

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

    /// <summary>RFC 3339 with six decimals, as in every message.</summary>
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
