using System.Globalization;
using System.Text.Json;
using Rovett.Service.Spaces;

namespace Rovett.Service.Outbound;

/// <summary>The words of an e-mail about a missed deadline.</summary>
static class MailTexts
{
    const int MostNamed = 10;

    public static Mail Of(JsonElement detail, MailSettings settings, TimeZoneInfo zone)
    {
        var notification = detail.GetProperty("notification");
        var paragraphs = new List<string>();
        if ((Text(detail, "body") ?? Text(notification, "body")) is { Length: > 0 } body) paragraphs.Add(body);
        paragraphs.Add(Missed(detail, Text(notification, "title")!, zone));
        return new Mail(Text(detail, "email")!, Text(detail, "title") ?? Text(notification, "title")!, paragraphs,
            LinkOf(Text(notification, "link"), settings), Text(detail, "id")!);
    }

    static string Missed(JsonElement detail, string title, TimeZoneInfo zone)
    {
        var deadline = detail.GetProperty("deadline");
        var state = Text(deadline, "by");
        var missed = TimeZoneInfo.ConvertTime(detail.GetProperty("missed").GetDateTimeOffset(), zone);
        var until = string.Create(CultureInfo.InvariantCulture, $"by {missed:d MMMM yyyy, HH:mm} ({zone.Id})");
        if (!deadline.TryGetProperty("missingUsers", out var missing)) return $"Nobody had {state} \u201c{title}\u201d {until}.";
        var names = missing.EnumerateArray().Select(n => n.GetString()!).ToList();
        long more = deadline.GetProperty("missing").GetInt64() - Math.Min(names.Count, MostNamed);
        var who = string.Join(", ", names.Take(MostNamed)) + (more > 0 ? $" and {more} more" : "");
        return $"{who} had not {state} \u201c{title}\u201d {until}.";
    }

    static string? LinkOf(string? link, MailSettings settings) =>
        link is null || !link.StartsWith('/') ? link : settings.LinkBase is { } start ? start.TrimEnd('/') + link : null;

    static string? Text(JsonElement from, string name) => from.TryGetProperty(name, out var value) ? value.GetString() : null;
}
