using System.Text.Json.Nodes;

namespace Rovett.Client;

/// <summary>Something that happened in your backend: an event of CloudEvents 1.0. Rules make notifications of it.</summary>
/// <param name="Source">Where it happened: a URI-reference, such as <c>/planning/1</c>.</param>
/// <param name="Type">Its type: <c>engine.check.due</c>.</param>
/// <param name="Subject">The subject it is about, or null. Events of one source and subject are taken in order.</param>
/// <param name="Data">Its data as JSON, or null.</param>
public sealed record BackendEvent(string Source, string Type, string? Subject = null, JsonNode? Data = null)
{
    /// <summary>Its id, unique within the source. Repeats with the same id and content are taken once; a new one by default.</summary>
    public string Id { get; init; } = Guid.CreateVersion7().ToString();

    /// <summary>When it happened; null: not given.</summary>
    public DateTimeOffset? Time { get; init; }

    /// <summary>Extension attributes: names of a–z and 0–9, such as <c>actor</c>.</summary>
    public IReadOnlyDictionary<string, string> Extensions { get; init; } = new Dictionary<string, string>();

    /// <summary>The event in the JSON format of CloudEvents.</summary>
    public JsonObject ToJson()
    {
        var json = new JsonObject { ["specversion"] = "1.0", ["id"] = Id, ["source"] = Source, ["type"] = Type };
        if (Subject is not null) json["subject"] = Subject;
        if (Time is { } time) json["time"] = time.ToUniversalTime().ToString("O");
        foreach (var (name, value) in Extensions) json[name] = value;
        if (Data is not null) json["data"] = Data.DeepClone();
        return json;
    }
}

/// <summary>What came of an event.</summary>
/// <param name="Matched">The rules that matched.</param>
/// <param name="Notifications">The ids of the notifications made.</param>
/// <param name="IsGathering">It is in a gathering, which is sent when it closes.</param>
/// <param name="SetAside">The number under which it is set aside because a rule failed; null: it is not.</param>
/// <param name="IsRepeated">It had been taken before.</param>
public sealed record PublishedEvent(IReadOnlyList<string> Matched, IReadOnlyList<string> Notifications, bool IsGathering, long? SetAside,
    bool IsRepeated)
{
    internal static PublishedEvent From(JsonNode answer) => new(
        [.. answer["matched"]!.AsArray().Select(m => (string)m!)],
        [.. answer["notifications"]!.AsArray().Select(n => (string)n!["id"]!)],
        answer["gathering"] is not null, (long?)answer["setAside"]?["number"], (bool?)answer["repeated"] ?? false);
}

/// <summary>The result of one of many events.</summary>
/// <param name="Event">The event.</param>
/// <param name="Published">What came of it; null: see <paramref name="Error"/>.</param>
/// <param name="Error">Why it was refused.</param>
public sealed record PublishOutcome(BackendEvent Event, PublishedEvent? Published, RovettRefusedException? Error);
