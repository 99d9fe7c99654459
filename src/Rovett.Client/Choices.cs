using System.Globalization;
using System.Text.Json.Nodes;

namespace Rovett.Client;

/// <summary>A time of some days in which devices are not to ring.</summary>
/// <param name="From">When it begins: <c>22:00</c>.</param>
/// <param name="To">When it ends: <c>06:30</c>, at most <c>24:00</c>; one that is not after the begin is on the next day.</param>
/// <param name="Days">The days it begins on; none: every day.</param>
public sealed record QuietTime(string From, string To, params DayOfWeek[] Days);

/// <summary>When devices are not to ring.</summary>
/// <param name="TimeZone">A name of the IANA database: <c>Europe/Berlin</c>.</param>
/// <param name="Hours">The times.</param>
public sealed record QuietHours(string TimeZone, params QuietTime[] Hours);

/// <summary>A type or a subject, one of the two, that the user is not told of.</summary>
/// <param name="Type">The type.</param>
/// <param name="Subject">The subject.</param>
public sealed record Mute(string? Type = null, string? Subject = null)
{
    /// <summary>Since when; null in one that is put.</summary>
    public DateTimeOffset? Since { get; init; }
}

/// <summary>A type by its name for people.</summary>
/// <param name="Type">The type.</param>
/// <param name="Name">Its name in the language asked for.</param>
/// <param name="Always">It can't be muted.</param>
public sealed record NamedType(string Type, string Name, bool Always);

/// <summary>What a user chose to be told of, and when.</summary>
/// <param name="Rev">Their version; a put names it, so that two devices don't undo each other's changes.</param>
/// <param name="Mutes">What the user is not told of.</param>
/// <param name="Quiet">Quiet hours; null: none.</param>
/// <param name="QuietSpans">The quiet hours of the next 48 hours as instants.</param>
/// <param name="Types">The types that have names for people; empty in a message.</param>
public sealed record Choices(long Rev, IReadOnlyList<Mute> Mutes, QuietHours? Quiet,
    IReadOnlyList<(DateTimeOffset From, DateTimeOffset To)> QuietSpans, IReadOnlyList<NamedType> Types)
{
    /// <summary>Whether a device rings for a notification: not within quiet hours, unless it is urgent or people are always
    /// told of it.</summary>
    /// <param name="notification">As it came over a <see cref="LiveConnection"/>.</param>
    /// <param name="at">When it came.</param>
    public bool Rings(JsonObject notification, DateTimeOffset at) => (string?)notification["urgency"] == "high"
        || ((bool?)notification["always"] ?? false) || !QuietSpans.Any(s => s.From <= at && at < s.To);

    /// <summary>Reads an answer of <c>/v1/choices</c>, or the message <c>choices</c> of a live connection.</summary>
    public static Choices From(JsonNode json) => new((long)json["rev"]!, [.. Items(json["mutes"]).Select(m =>
        new Mute((string?)m["type"], (string?)m["subject"]) { Since = Instant(m["since"]) })],
        json["quiet"] is { } quiet ? QuietFrom(quiet) : null,
        [.. Items(json["quietSpans"]).Select(s => (Instant(s["from"])!.Value, Instant(s["to"])!.Value))],
        [.. Items(json["types"]).Select(t => new NamedType((string)t["type"]!, (string)t["name"]!, (bool?)t["always"] ?? false))]);

    internal static JsonObject Json(IEnumerable<Mute> mutes, QuietHours? quiet) => new()
    {
        ["mutes"] = new JsonArray([.. mutes.Select(m => (JsonNode)(m.Type is { } type
            ? new JsonObject { ["type"] = type } : new JsonObject { ["subject"] = m.Subject }))]),
        ["quiet"] = quiet is null ? null : new JsonObject
        {
            ["timeZone"] = quiet.TimeZone,
            ["hours"] = new JsonArray([.. quiet.Hours.Select(h => (JsonNode)Json(h))]),
        },
    };

    static JsonObject Json(QuietTime time)
    {
        var json = new JsonObject { ["from"] = time.From, ["to"] = time.To };
        if (time.Days.Length > 0) json["days"] = new JsonArray([.. time.Days.Select(d => (JsonNode)Days[(int)d])]);
        return json;
    }

    static QuietHours QuietFrom(JsonNode quiet) => new((string)quiet["timeZone"]!, [.. Items(quiet["hours"]).Select(TimeFrom)]);

    static QuietTime TimeFrom(JsonNode time) => new((string)time["from"]!, (string)time["to"]!,
        [.. Items(time["days"]).Select(d => (DayOfWeek)Array.IndexOf(Days, (string)d!))]);

    static readonly string[] Days = ["sun", "mon", "tue", "wed", "thu", "fri", "sat"];

    static IEnumerable<JsonNode> Items(JsonNode? array) => (array as JsonArray ?? []).Select(n => n!);

    static DateTimeOffset? Instant(JsonNode? text) =>
        text is null ? null : DateTimeOffset.Parse((string)text!, CultureInfo.InvariantCulture, DateTimeStyles.AssumeUniversal);
}

/// <summary>Reads and replaces a user's choices, with the user's token.</summary>
/// <param name="client">Calls with the user's token.</param>
public sealed class RovettChoices(RovettClient client)
{
    const string Path = "/v1/choices";

    /// <summary>What the user chose.</summary>
    /// <exception cref="RovettRefusedException">The service refused the token.</exception>
    /// <exception cref="HttpRequestException">The service can't be reached.</exception>
    public async Task<Choices> Get(CancellationToken cancel = default) =>
        Choices.From(await client.Call(HttpMethod.Get, Path, cancel: cancel).ConfigureAwait(false));

    /// <summary>Replaces all of them; all of the user's devices are told.</summary>
    /// <param name="rev">The version they were made from; null: whatever holds is replaced.</param>
    /// <param name="mutes">What the user is not told of.</param>
    /// <param name="quiet">Quiet hours; null: none.</param>
    /// <param name="cancel">Ends the wait.</param>
    /// <exception cref="RovettRefusedException">412: they were changed meanwhile. 422: <c>Fields</c> says what is wrong.</exception>
    /// <exception cref="HttpRequestException">The service can't be reached.</exception>
    public async Task<Choices> Put(long? rev, IEnumerable<Mute> mutes, QuietHours? quiet, CancellationToken cancel = default) =>
        Choices.From(await client.Call(HttpMethod.Put, Path, Choices.Json(mutes, quiet), cancel,
            ifMatch: rev?.ToString(CultureInfo.InvariantCulture)).ConfigureAwait(false));
}
