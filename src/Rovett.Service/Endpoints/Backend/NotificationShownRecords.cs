using System.Text.Json;
using System.Text.Json.Serialization;
using Rovett.Service.Http;

namespace Rovett.Service.Endpoints.Backend;

/// <summary>The members of a notification that are the same for everybody.</summary>
public record NotificationContent
{
    /// <summary>Its type.</summary>
    [Example("engine.check.due")]
    public required string Type { get; init; }

    /// <summary>The subject it is about.</summary>
    [Example("vessel/turnstone")]
    public string? Subject { get; init; }

    /// <summary>Its title, in plain text.</summary>
    [Example("Turnstone: check engine 2 by 18:00")]
    public required string Title { get; init; }

    /// <summary>More, in plain text.</summary>
    [Example("Oil pressure was low on the 14:10 crossing.")]
    public string? Body { get; init; }

    /// <summary>Where it leads: a path, or an http(s) address.</summary>
    [Example("/vessels/turnstone")]
    public string? Link { get; init; }

    /// <summary>How urgent it is (RFC 8030). Absent once the person was erased to whom alone it was sent.</summary>
    [OneOf("very-low", "low", "normal", "high"), Example("high")]
    public string? Urgency { get; init; }

    /// <summary>True when one member of the role can take it.</summary>
    [Example(true)]
    public bool? Takeable { get; init; }

    /// <summary>True when people are always told of it, whatever they chose.</summary>
    [Example(true)]
    public bool? Always { get; init; }

    /// <summary>Anything for the receiving program.</summary>
    [Example("{\"engine\":2}")]
    public JsonElement? Data { get; init; }

    /// <summary>When it expires.</summary>
    public StoredTime? Expires { get; init; }

    /// <summary>Until when somebody must have acted: the first of its deadlines.</summary>
    public StoredTime? Due { get; init; }
}

/// <summary>A notification as backends see it.</summary>
public sealed record NotificationAnswer : NotificationContent
{
    /// <summary>The notification's id.</summary>
    [Example("01KB8Q0M5H7C4B9A533F1C0E7D")]
    public required string Id { get; init; }

    /// <summary>Its place in the space's history.</summary>
    [Example(4711)]
    public required long Position { get; init; }

    /// <summary>How much of it is sent to devices, when not all is.</summary>
    [OneOf("summary", "reference")]
    public string? Carry { get; init; }

    /// <summary>When it was stored.</summary>
    public required StoredTime Time { get; init; }

    /// <summary>The recipients.</summary>
    [Example("role:engineer")]
    public required IReadOnlyList<string> To { get; init; }

    /// <summary>The exceptions.</summary>
    [Example("user:teo")]
    public required IReadOnlyList<string> Except { get; init; }

    /// <summary>How many people have it in each state.</summary>
    public required PeopleAnswer People { get; init; }

    /// <summary>The receipts kept: of each person, only totals, or none.</summary>
    [OneOf("full", "totals", "none"), Example("full")]
    public required string ReceiptsKept { get; init; }

    /// <summary>The taker.</summary>
    public TakenAnswer? Taken { get; init; }

    /// <summary>Each person's receipt, where they are kept; the first 1,000.</summary>
    public IReadOnlyList<PersonReceiptAnswer>? Receipts { get; init; }

    /// <summary>Its deadlines.</summary>
    public IReadOnlyList<DeadlineAnswer>? Deadlines { get; init; }

    /// <summary>The events it came of, with the rule that made it.</summary>
    public IReadOnlyList<OriginAnswer>? Events { get; init; }

    /// <summary>Its changes, oldest first.</summary>
    public required IReadOnlyList<TimelineEntry> Timeline { get; init; }
}

/// <summary>How many people have a notification in each state.</summary>
public sealed record PeopleAnswer
{
    /// <summary>A device has acknowledged it.</summary>
    [Example(5)]
    public required long Received { get; init; }

    /// <summary>A program has done what is to be done with it.</summary>
    [Example(0)]
    public required long Handled { get; init; }

    /// <summary>The person has seen it.</summary>
    [Example(3)]
    public required long Read { get; init; }
}

/// <summary>The taker of a notification.</summary>
public sealed record TakenAnswer
{
    /// <summary>The user.</summary>
    [Example("mara")]
    public required string By { get; init; }

    /// <summary>When it becomes free again.</summary>
    public StoredTime? Until { get; init; }
}

/// <summary>One person's receipt of a notification.</summary>
public sealed record PersonReceiptAnswer
{
    /// <summary>The user, or the pseudonym of a person who was erased.</summary>
    [Example("mara")]
    public required string User { get; init; }

    /// <summary>The device that acknowledged it.</summary>
    [Example("phone")]
    public required string Device { get; init; }

    /// <summary>When a device acknowledged it, or null.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.Never)]
    public StoredTime? Received { get; init; }

    /// <summary>When a program had done what is to be done with it, or null.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.Never)]
    public StoredTime? Handled { get; init; }

    /// <summary>When the person saw it, or null.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.Never)]
    public StoredTime? Read { get; init; }
}

/// <summary>A deadline and what has become of it.</summary>
public sealed record DeadlineAnswer
{
    /// <summary>The state to reach.</summary>
    [OneOf("read", "received", "handled", "taken"), Example("taken")]
    public required string By { get; init; }

    /// <summary>By one of those it is for, or by each.</summary>
    [OneOf("anyone", "each"), Example("anyone")]
    public required string Who { get; init; }

    /// <summary>Until when.</summary>
    public required StoredTime At { get; init; }

    /// <summary>Whether it was met in time. <c>void</c>: the notification ended before.</summary>
    [OneOf("pending", "met", "missed", "void"), Example("pending")]
    public required string State { get; init; }

    /// <summary>When it was met or missed.</summary>
    public StoredTime? Ended { get; init; }

    /// <summary>What it does when it is missed, and what became of that.</summary>
    public IReadOnlyList<OtherwiseAnswer>? Otherwise { get; init; }
}

/// <summary>Something that is done when a deadline is missed: a notification, a webhook or an e-mail.</summary>
public sealed record OtherwiseAnswer
{
    /// <summary>The recipients of the notification.</summary>
    [Example("role:duty-manager")]
    public IReadOnlyList<string>? To { get; init; }

    /// <summary>The webhook's name.</summary>
    [Example("pager")]
    public string? Webhook { get; init; }

    /// <summary>The e-mail address.</summary>
    [Example("bridge@marrowsound.example")]
    public string? Email { get; init; }

    /// <summary>What became of it. <c>idle</c>: not needed, or not yet; <c>waiting</c>: not taken so far; <c>ended</c>: not needed
    /// any more, because the state was reached.</summary>
    [OneOf("idle", "waiting", "done", "ended", "set-aside"), Example("done")]
    public required string State { get; init; }

    /// <summary>When it came to that.</summary>
    public StoredTime? Time { get; init; }

    /// <summary>The id of the notification that was sent.</summary>
    [Example("01KB8Q0M5H7C4B9A533F1C0E7D")]
    public string? Notification { get; init; }
}

/// <summary>Something that became of a notification.</summary>
public sealed record TimelineEntry
{
    /// <summary>What.</summary>
    [OneOf("stored", "withdrawn", "replaced", "expired", "taken", "released"), Example("stored")]
    public required string State { get; init; }

    /// <summary>When.</summary>
    public required StoredTime Time { get; init; }

    /// <summary>The taker, or the id of the notification that replaced it.</summary>
    public string? By { get; init; }

    /// <summary>Until when it is taken.</summary>
    public string? Until { get; init; }
}

/// <summary>The result of a withdrawal.</summary>
public sealed record WithdrawAnswer
{
    /// <summary>The notification's id.</summary>
    [Example("01KB8Q0M5H7C4B9A533F1C0E7D")]
    public required string Id { get; init; }

    /// <summary>Its state now.</summary>
    [OneOf("withdrawn", "replaced", "expired", "trimmed"), Example("withdrawn")]
    public required string State { get; init; }

    /// <summary>Since when.</summary>
    public required StoredTime Time { get; init; }

    /// <summary>The withdrawal's place in the space's history.</summary>
    [Example(4712)]
    public long? Position { get; init; }

    /// <summary>True when this request did it.</summary>
    [Example(true)]
    public required bool Changed { get; init; }
}

/// <summary>An event that a notification came of.</summary>
public sealed record OriginAnswer
{
    /// <summary>The event's source.</summary>
    [Example("/planning/1")]
    public required string Source { get; init; }

    /// <summary>The event's id.</summary>
    [Example("check-91-due")]
    public required string Id { get; init; }

    /// <summary>The rule.</summary>
    [Example("Engine check due")]
    public required string Rule { get; init; }

    /// <summary>When the event was taken.</summary>
    public StoredTime? Time { get; init; }

    /// <summary>The trace it belongs to (W3C Trace Context).</summary>
    [Example("00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01")]
    public string? Trace { get; init; }
}
