using System.Globalization;
using System.Xml;

namespace Rovett.Core.Values;

/// <summary>Durations as people write them.</summary>
public static class Durations
{
    /// <summary>Reads <c>now</c>, <c>30s</c>, <c>15m</c>, <c>12h</c> or <c>7d</c>.</summary>
    public static bool TryParse(string? text, out TimeSpan span)
    {
        span = TimeSpan.Zero;
        if (text == "now") return true;
        if (text is not { Length: > 1 } || !int.TryParse(text[..^1], NumberStyles.None, CultureInfo.InvariantCulture, out int count)
            || count > 36_500)
        {
            return false;
        }
        TimeSpan? unit = text[^1] switch
        {
            's' => TimeSpan.FromSeconds(1),
            'm' => TimeSpan.FromMinutes(1),
            'h' => TimeSpan.FromHours(1),
            'd' => TimeSpan.FromDays(1),
            _ => null
        };
        if (unit is null) return false;
        span = unit.Value * count;
        return true;
    }

    /// <summary>Reads a length of time: <c>30m</c>, or <c>PT30M</c> (ISO 8601).</summary>
    /// <returns>Null when it is neither.</returns>
    public static TimeSpan? Read(string text)
    {
        if (text.Length > 40) return null;
        if (text.Length > 0 && char.IsAsciiDigit(text[0])) return TryParse(text, out var span) ? span : null;
        try
        {
            return XmlConvert.ToTimeSpan(text);
        }
        catch (Exception error) when (error is FormatException or OverflowException)
        {
            return null;
        }
    }
}
