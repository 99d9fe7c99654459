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

    /// <summary>Whole seconds in the largest unit that takes no rest: <c>48h</c> is <c>2d</c>.</summary>
    public static string Write(TimeSpan span)
    {
        long seconds = (long)span.TotalSeconds;
        var (unit, size) = seconds switch
        {
            _ when seconds % 86_400 == 0 => ('d', 86_400),
            _ when seconds % 3600 == 0 => ('h', 3600),
            _ when seconds % 60 == 0 => ('m', 60),
            _ => ('s', 1),
        };
        return string.Create(CultureInfo.InvariantCulture, $"{seconds / size}{unit}");
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
