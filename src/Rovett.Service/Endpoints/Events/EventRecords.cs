using System.Text.Json;
using System.Text.Json.Serialization;
using Rovett.Service.Http;

namespace Rovett.Service.Endpoints.Events;

/// <summary>An event in the JSON format of CloudEvents 1.0. Other attributes (extensions) are texts, numbers, true or false.</summary>
public sealed record EventRequest
{
    /// <summary>The version of CloudEvents.</summary>
    [OneOf("1.0"), Example("1.0")]
    public required string Specversion { get; set; }

    /// <summary>Its id, unique within the source. A repeat with the same content is answered the same.</summary>
    [Text(1, 512), Example("check-91-due")]
    public required string Id { get; set; }

    /// <summary>Where it happened: a URI-reference.</summary>
    [Text(1, 1024), Example("/planning/1")]
    public required string Source { get; set; }

    /// <summary>Its type.</summary>
    [Text(1, 128), Example("engine.check.due")]
    public required string Type { get; set; }

    /// <summary>The subject it is about. Events of one source and subject are taken in order.</summary>
    [Text(1, 256), Example("vessel/turnstone")]
    public string? Subject { get; set; }

    /// <summary>When it happened.</summary>
    public StoredTime? Time { get; set; }

    /// <summary>The media type of the data; JSON by default. Rules look only into JSON.</summary>
    [Example("application/json")]
    public string? Datacontenttype { get; set; }

    /// <summary>Its data.</summary>
    [Example("""{"vessel":{"id":"turnstone","name":"Turnstone"},"check":"bow thruster","id":91,"hours":52,"priority":"high"}""")]
    public JsonElement? Data { get; set; }
}

/// <summary>How events are published.</summary>
public sealed record PublishQuery
{
    /// <summary>True: answers which rules match, and does nothing.</summary>
    [Example(false)]
    public bool? DryRun { get; set; }
}

/// <summary>A notification made of an event.</summary>
public sealed record MadeAnswer
{
    /// <summary>Its id.</summary>
    [Example("01KB8Q0M5H7C4B9A533F1C0E7D")]
    public required string Id { get; init; }

    /// <summary>The rule that made it.</summary>
    [Example("Engine check due")]
    public required string Rule { get; init; }
}

/// <summary>A gathering that an event is in.</summary>
public sealed record GatheringAnswer
{
    /// <summary>The id of the notification that closes it; withdrawing it drops the gathering.</summary>
    [Example("01KB8Q0M5H7C4B9A533F1C0E7D")]
    public required string Id { get; init; }

    /// <summary>The rule that gathers.</summary>
    [Example("Crew told of a delay")]
    public required string Rule { get; init; }

    /// <summary>When it closes.</summary>
    public required StoredTime Until { get; init; }
}

/// <summary>A rule that failed for an event.</summary>
public sealed record FailedRuleAnswer
{
    /// <summary>The rule.</summary>
    [Example("Engine check due")]
    public required string Rule { get; init; }

    /// <summary>Why it failed.</summary>
    [Example("title: data.vessel is missing or null; add it to the event, or give a default ({{ … | default: \"…\" }})")]
    public required string Reason { get; init; }
}

/// <summary>What was set aside of an event.</summary>
public sealed record EventAsideAnswer
{
    /// <summary>Its number: see <c>/v1/set-aside</c>.</summary>
    [Example(7)]
    public required long Number { get; init; }

    /// <summary>The rules that failed.</summary>
    public required IReadOnlyList<FailedRuleAnswer> Rules { get; init; }
}

/// <summary>What came of an event.</summary>
public sealed record EventOutcomeAnswer
{
    /// <summary>True for a dry run: nothing was done.</summary>
    public bool? DryRun { get; init; }

    /// <summary>The rules that matched, in the order written.</summary>
    [Example("Engine check due")]
    public required IReadOnlyList<string> Matched { get; init; }

    /// <summary>The notifications made.</summary>
    public required IReadOnlyList<MadeAnswer> Notifications { get; init; }

    /// <summary>The gatherings it is in: nothing of them is sent before they close.</summary>
    public IReadOnlyList<GatheringAnswer>? Gathering { get; init; }

    /// <summary>What was set aside of it, because a rule failed.</summary>
    public EventAsideAnswer? SetAside { get; init; }

    /// <summary>True when some of it was made by a retry, after later events.</summary>
    public bool? Late { get; init; }

    /// <summary>True when the event had been taken before.</summary>
    [Example(false)]
    public required bool Repeated { get; init; }

    /// <summary>For an event that no rule matched: the nearest type that a rule is for.</summary>
    public string? Nearest { get; init; }
}

/// <summary>The answer to one of several events: what came of it, or its problem.</summary>
public sealed record EventResultAnswer
{
    /// <summary>What came of it.</summary>
    public EventOutcomeAnswer? Outcome { get; init; }

    /// <summary>Why it was refused.</summary>
    public ProblemAnswer? Problem { get; init; }
}

/// <summary>The answers to several events.</summary>
public sealed record EventResultList
{
    /// <summary>How many were taken.</summary>
    [Example(2)]
    public required int Taken { get; init; }

    /// <summary>How many were refused.</summary>
    [Example(0)]
    public required int Refused { get; init; }

    /// <summary>An answer for each, in the order given.</summary>
    public required IReadOnlyList<EventResultAnswer> Results { get; init; }
}

/// <summary>Which event to show.</summary>
public sealed record EventQuery
{
    /// <summary>Its source.</summary>
    [Example("/planning/1")]
    public string? Source { get; set; }

    /// <summary>Its id.</summary>
    [Example("check-91-due")]
    public string? Id { get; set; }

    /// <summary>In a list: their type, or its beginning followed by <c>*</c>.</summary>
    [Text(1, 256), Example("engine.*")]
    public string? Type { get; set; }

    /// <summary>In a list: the subject they are about.</summary>
    [Text(1, 256), Example("vessel/turnstone")]
    public string? Subject { get; set; }

    /// <summary>In a list: the most of a page; 50 when left out.</summary>
    [Whole(1, 200), Example(50)]
    public int? Limit { get; set; }

    /// <summary>In a list: where the page begins, from the <c>next</c> link of the page before.</summary>
    public string? Page { get; set; }
}

/// <summary>Events that were taken, newest first.</summary>
public sealed record EventPage
{
    /// <summary>The events. A page may be short and still have a next one: each request looks at 5,000 when it filters.</summary>
    public required IReadOnlyList<EventAnswer> Events { get; init; }
}

/// <summary>An event that was taken.</summary>
public sealed record EventAnswer
{
    /// <summary>Its source.</summary>
    [Example("/planning/1")]
    public required string Source { get; init; }

    /// <summary>Its id.</summary>
    [Example("check-91-due")]
    public required string Id { get; init; }

    /// <summary>Its type.</summary>
    [Example("engine.check.due")]
    public required string Type { get; init; }

    /// <summary>The subject it is about.</summary>
    [Example("vessel/turnstone")]
    public string? Subject { get; init; }

    /// <summary>The trace it belongs to (W3C Trace Context).</summary>
    [Example("00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01")]
    public string? Trace { get; init; }

    /// <summary>When it was taken.</summary>
    public required StoredTime Time { get; init; }

    /// <summary>What came of it.</summary>
    public required EventOutcomeAnswer Outcome { get; init; }

    /// <summary>The event as it came, for keys with the scope <c>admin</c>; only with the setting <c>keepEventData</c>.</summary>
    public JsonElement? Event { get; init; }
}

/// <summary>The code that reads and writes the records of this folder.</summary>
[JsonSourceGenerationOptions(GenerationMode = JsonSourceGenerationMode.Metadata, PropertyNamingPolicy = JsonKnownNamingPolicy.CamelCase,
    DefaultIgnoreCondition = JsonIgnoreCondition.WhenWritingNull, Converters = [typeof(StoredTimeConverter)])]
[JsonSerializable(typeof(EventRequest)), JsonSerializable(typeof(PublishQuery)), JsonSerializable(typeof(EventOutcomeAnswer))]
[JsonSerializable(typeof(EventResultList)), JsonSerializable(typeof(EventQuery)), JsonSerializable(typeof(EventAnswer))]
[JsonSerializable(typeof(RulesDocument)), JsonSerializable(typeof(RulesQuery)), JsonSerializable(typeof(RulesAnswer))]
[JsonSerializable(typeof(RulesLoaded)), JsonSerializable(typeof(LoadRulesQuery)), JsonSerializable(typeof(TryRequest))]
[JsonSerializable(typeof(TryAnswer)), JsonSerializable(typeof(SetAsideList)), JsonSerializable(typeof(SetAsideItem))]
[JsonSerializable(typeof(SetAsideQuery)), JsonSerializable(typeof(RetryRequest)), JsonSerializable(typeof(RetryAnswer))]
[JsonSerializable(typeof(RetryManyRequest)), JsonSerializable(typeof(RetryList)), JsonSerializable(typeof(DropAnswer))]
[JsonSerializable(typeof(TypesDocument)), JsonSerializable(typeof(TypesAnswer)), JsonSerializable(typeof(TypesLoaded))]
[JsonSerializable(typeof(ProblemAnswer)), JsonSerializable(typeof(EventPage)), JsonSerializable(typeof(string[]))]
sealed partial class EventsJson : JsonSerializerContext;
