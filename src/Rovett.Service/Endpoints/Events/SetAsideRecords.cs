using System.Text.Json;
using Rovett.Service.Http;

namespace Rovett.Service.Endpoints.Events;

/// <summary>A part of what is set aside.</summary>
public sealed record SetAsideQuery
{
    /// <summary>Only with numbers above this.</summary>
    [Whole(0, long.MaxValue), Example(0)]
    public long? After { get; set; }

    /// <summary>At most so many; 100 by default.</summary>
    [Whole(1, 1000), Example(100)]
    public int? Limit { get; set; }
}

/// <summary>Something that was set aside.</summary>
public sealed record SetAsideItem
{
    /// <summary>Its number.</summary>
    [Example(7)]
    public required long Number { get; init; }

    /// <summary>When it was set aside.</summary>
    public required StoredTime Time { get; init; }

    /// <summary>What it is: an event for which a rule failed, something an intake received that could not be taken as an event, the
    /// notification of a gathering or of a missed deadline, or work that was due.</summary>
    [OneOf("event", "intake", "gathering", "otherwise", "due"), Example("event")]
    public required string Kind { get; init; }

    /// <summary>Why.</summary>
    [Example("Engine check due: title: data.vessel is missing or null")]
    public required string Reason { get; init; }

    /// <summary>The event with the rules that failed; the intake's name with what it received, as JSON (<c>content</c>), <c>text</c> or
    /// <c>base64</c>; or the notification. Empty after an erasure.</summary>
    [Example("""{"event":{"specversion":"1.0","id":"1","source":"/planning/1","type":"engine.check.due"},"rules":[]}""")]
    public required JsonElement Detail { get; init; }
}

/// <summary>What is set aside.</summary>
public sealed record SetAsideList
{
    /// <summary>A part of it, oldest first.</summary>
    public required IReadOnlyList<SetAsideItem> Items { get; init; }

    /// <summary>How much there is in all.</summary>
    [Example(1)]
    public required long Count { get; init; }
}

/// <summary>How to retry.</summary>
public sealed record RetryRequest
{
    /// <summary>For an event: other data for it.</summary>
    [Example("""{"vessel":{"id":"turnstone","name":"Turnstone"},"check":"bow thruster"}""")]
    public JsonElement? Data { get; set; }

    /// <summary>For something an intake received: the event to take in its place, in the JSON format of CloudEvents.</summary>
    [Example("""{"specversion":"1.0","id":"1","source":"/planning/1","type":"engine.check.due"}""")]
    public JsonElement? Event { get; set; }
}

/// <summary>The result of a retry.</summary>
public sealed record RetryAnswer
{
    /// <summary>Its number; a new one when it failed again.</summary>
    [Example(7)]
    public required long Number { get; init; }

    /// <summary>Whether it is done.</summary>
    [Example(true)]
    public required bool Done { get; init; }

    /// <summary>Why it failed again.</summary>
    public string? Reason { get; init; }

    /// <summary>The notifications made.</summary>
    [Example("01KB8Q0M5H7C4B9A533F1C0E7D")]
    public required IReadOnlyList<string> Notifications { get; init; }
}

/// <summary>What to retry, or to drop.</summary>
public sealed record RetryManyRequest
{
    /// <summary>Their numbers, at most 1,000; absent: everything.</summary>
    [Example("[7, 8]")]
    public JsonElement? Numbers { get; set; }
}

/// <summary>The results of retries.</summary>
public sealed record RetryList
{
    /// <summary>How many are done.</summary>
    [Example(2)]
    public required int Done { get; init; }

    /// <summary>How many failed again.</summary>
    [Example(0)]
    public required int Failed { get; init; }

    /// <summary>Those that failed again; at most 100 are shown.</summary>
    public required IReadOnlyList<RetryAnswer> Failures { get; init; }
}

/// <summary>What was dropped.</summary>
public sealed record DropAnswer
{
    /// <summary>How many were dropped.</summary>
    [Example(2)]
    public required int Dropped { get; init; }
}
