using System.Buffers;
using System.Globalization;
using System.Text;
using System.Text.Json;

namespace Rovett.Core.Choices;

/// <summary>A time of some days of the week.</summary>
/// <param name="Days">The days on which it begins.</param>
/// <param name="From">Its begin, in minutes after midnight, 0 to 1439.</param>
/// <param name="To">Its end, 1 to 1440; not after the begin: on the next day.</param>
public sealed record QuietTime(IReadOnlyList<DayOfWeek> Days, int From, int To)
{
    /// <summary>Whether it is on every day.</summary>
    public bool IsDaily => Days.Count == 7;
}

/// <summary>A span between two instants.</summary>
/// <param name="From">Its begin.</param>
/// <param name="To">Its end.</param>
public readonly record struct QuietSpan(DateTimeOffset From, DateTimeOffset To);

/// <summary>The hours in which a person's devices are not to ring.</summary>
/// <param name="Zone">The time zone in which they are meant.</param>
/// <param name="Times">The times.</param>
public sealed record QuietHours(TimeZoneInfo Zone, IReadOnlyList<QuietTime> Times)
{
    /// <summary>The most times.</summary>
    public const int MaxTimes = 14;
    /// <summary>How far ahead spans are worked out.</summary>
    public static readonly TimeSpan Ahead = TimeSpan.FromHours(48);

    const int MinutesOfDay = 24 * 60;
    static readonly string[] DayNames = ["sun", "mon", "tue", "wed", "thu", "fri", "sat"];

    /// <summary>The spans of the next 48 hours as instants, in order, none touching another. The first may have begun.</summary>
    /// <param name="now">From when on.</param>
    public IReadOnlyList<QuietSpan> Spans(DateTimeOffset now)
    {
        var found = new List<QuietSpan>();
        var until = now + Ahead;
        var today = DateOnly.FromDateTime(TimeZoneInfo.ConvertTime(now, Zone).DateTime);
        for (var day = today.AddDays(-2); day <= today.AddDays(4); day = day.AddDays(1))
        {
            foreach (var time in Times)
            {
                if (!time.Days.Contains(day.DayOfWeek)) continue;
                var from = InstantAt(day, time.From, isEnd: false);
                var to = InstantAt(time.To > time.From ? day : day.AddDays(1), time.To, isEnd: true);
                if (to > from && to > now && from < until) found.Add(new QuietSpan(from, to));
            }
        }
        return Joined(found);
    }

    /// <summary>A local time as an instant. One that is skipped is the next that exists; of one that there is twice, a begin takes the
    /// first and an end the last.</summary>
    DateTimeOffset InstantAt(DateOnly day, int minutes, bool isEnd)
    {
        var local = day.ToDateTime(default).AddMinutes(minutes);
        for (int i = 0; Zone.IsInvalidTime(local) && i <= MinutesOfDay; i++) local = local.AddMinutes(1);
        if (!Zone.IsAmbiguousTime(local)) return new DateTimeOffset(local, Zone.GetUtcOffset(local)).ToUniversalTime();
        var offsets = Zone.GetAmbiguousTimeOffsets(local);
        return new DateTimeOffset(local, isEnd ? offsets.Min() : offsets.Max()).ToUniversalTime();
    }

    static List<QuietSpan> Joined(List<QuietSpan> spans)
    {
        var joined = new List<QuietSpan>();
        foreach (var span in spans.OrderBy(s => s.From))
        {
            if (joined.Count > 0 && span.From <= joined[^1].To)
            {
                if (span.To > joined[^1].To) joined[^1] = joined[^1] with { To = span.To };
            }
            else joined.Add(span);
        }
        return joined;
    }

    /// <summary>Reads them from JSON.</summary>
    /// <param name="node">An object with <c>timeZone</c> and <c>hours</c>.</param>
    /// <param name="field">Its name, for mistakes.</param>
    /// <param name="errors">Receives the mistakes.</param>
    /// <returns>They; null with mistakes.</returns>
    public static QuietHours? Read(JsonElement node, string field, List<FieldError> errors)
    {
        if (node.ValueKind != JsonValueKind.Object)
        {
            errors.Add(new FieldError(field, "must be an object of timeZone and hours, or null for none"));
            return null;
        }
        int before = errors.Count;
        foreach (var member in node.EnumerateObject())
        {
            if (JsonText.NameOf(member) is var name and not ("timeZone" or "hours"))
            {
                errors.Add(new FieldError($"{field}.{name}", "is not a part of quiet hours; there are timeZone and hours"));
            }
        }
        TimeZoneInfo? zone = null;
        if (!node.TryGetProperty("timeZone", out var zoneNode) || !JsonText.TryString(zoneNode, out var zoneName)
            || !TimeZones.TryFind(zoneName, out zone))
        {
            errors.Add(new FieldError($"{field}.timeZone", TimeZones.Rule));
        }
        var times = new List<QuietTime>();
        if (!node.TryGetProperty("hours", out var hours) || hours.ValueKind != JsonValueKind.Array
            || hours.GetArrayLength() is 0 or > MaxTimes)
        {
            errors.Add(new FieldError($"{field}.hours",
                $"must be 1 to {MaxTimes} times, such as [{{\"from\": \"22:00\", \"to\": \"06:30\"}}]"));
        }
        else
        {
            int i = 0;
            foreach (var item in hours.EnumerateArray())
            {
                if (TimeIn(item, $"{field}.hours[{i++}]", errors) is { } time) times.Add(time);
            }
        }
        return errors.Count > before ? null : new QuietHours(zone!, times);
    }

    static QuietTime? TimeIn(JsonElement item, string field, List<FieldError> errors)
    {
        if (item.ValueKind != JsonValueKind.Object
            || item.EnumerateObject().Any(m => JsonText.NameOf(m) is not ("days" or "from" or "to")))
        {
            errors.Add(new FieldError(field, "must be an object of from, to and, unless it is every day, days"));
            return null;
        }
        int? from = MinutesIn(item, "from"), to = MinutesIn(item, "to");
        if (from is null or MinutesOfDay) errors.Add(new FieldError($"{field}.from", "must be a time from 00:00 to 23:59"));
        if (to is null or 0) errors.Add(new FieldError($"{field}.to", "must be a time from 00:01 to 24:00"));
        if (from is not null && from == to)
        {
            errors.Add(new FieldError($"{field}.to", "is the same as 'from'; a whole day is 00:00 to 24:00"));
        }
        var days = DaysIn(item, field, errors);
        return from is null or MinutesOfDay || to is null or 0 || from == to
            || days is null ? null : new QuietTime(days, from.Value, to.Value);
    }

    static int? MinutesIn(JsonElement item, string name) =>
        !item.TryGetProperty(name, out var node) || !JsonText.TryString(node, out var text) ? null
        : text == "24:00" ? MinutesOfDay
        : TimeOnly.TryParseExact(text, "HH:mm", CultureInfo.InvariantCulture, DateTimeStyles.None, out var time)
            ? (time.Hour * 60) + time.Minute : null;

    static List<DayOfWeek>? DaysIn(JsonElement item, string field, List<FieldError> errors)
    {
        if (!item.TryGetProperty("days", out var list)) return [.. Enum.GetValues<DayOfWeek>()];
        var days = new List<DayOfWeek>();
        if (list.ValueKind == JsonValueKind.Array)
        {
            foreach (var day in list.EnumerateArray())
            {
                int index = JsonText.TryString(day, out var name) ? Array.IndexOf(DayNames, name) : -1;
                if (index < 0) days.Clear();
                if (index < 0) break;
                if (!days.Contains((DayOfWeek)index)) days.Add((DayOfWeek)index);
            }
        }
        if (days.Count > 0) return days;
        errors.Add(new FieldError($"{field}.days", "must be some of mon, tue, wed, thu, fri, sat and sun"));
        return null;
    }

    /// <summary>Writes them as JSON.</summary>
    public void Write(Utf8JsonWriter json)
    {
        json.WriteStartObject();
        json.WriteString("timeZone", Zone.Id);
        json.WriteStartArray("hours");
        foreach (var time in Times)
        {
            json.WriteStartObject();
            if (!time.IsDaily)
            {
                json.WriteStartArray("days");
                foreach (var day in time.Days) json.WriteStringValue(NameOf(day));
                json.WriteEndArray();
            }
            json.WriteString("from", TextOf(time.From));
            json.WriteString("to", TextOf(time.To));
            json.WriteEndObject();
        }
        json.WriteEndArray();
        json.WriteEndObject();
    }

    /// <summary>A day as it is written.</summary>
    public static string NameOf(DayOfWeek day) => DayNames[(int)day];

    /// <summary>A time as it is written.</summary>
    public static string TextOf(int minutes) => string.Create(CultureInfo.InvariantCulture, $"{minutes / 60:00}:{minutes % 60:00}");

    /// <summary>As they are stored.</summary>
    public string ToText()
    {
        var buffer = new ArrayBufferWriter<byte>(128);
        using (var json = new Utf8JsonWriter(buffer, JsonText.WriterOptions)) Write(json);
        return Encoding.UTF8.GetString(buffer.WrittenSpan);
    }

    /// <summary>Reads the stored form; null for none, and for a time zone that this machine no longer knows.</summary>
    public static QuietHours? OfText(string text)
    {
        if (text.Length == 0) return null;
        using var document = JsonDocument.Parse(text);
        return Read(document.RootElement, "quiet", []);
    }
}
