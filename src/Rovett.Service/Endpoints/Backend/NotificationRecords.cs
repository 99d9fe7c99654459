using System.Text.Json;
using System.Text.Json.Serialization;
using Rovett.Service.Http;

namespace Rovett.Service.Endpoints.Backend;

/// <summary>A notification as a backend sends it. Read by <see cref="Core.Notifications.NotificationReader"/>, for
/// speed; this is its shape.</summary>
public sealed record NotificationRequest
{
    /// <summary>The recipient: <c>user:…</c>, <c>role:…</c>, <c>topic:…</c> or <c>everyone</c>.</summary>
    [AtMost(1064, "addresses"), Example("role:engineer")]
    public required IReadOnlyList<string> To { get; set; }

    /// <summary>Users and roles that do not get it, although an address of <c>to</c> reaches them.</summary>
    [AtMost(1064, "addresses"), Example("user:teo")]
    public IReadOnlyList<string>? Except { get; set; }

    /// <summary>Its type.</summary>
    [Text(1, 128), Example("engine.check.due")]
    public required string Type { get; set; }

    /// <summary>The subject it is about.</summary>
    [Text(1, 256), Example("vessel/turnstone")]
    public string? Subject { get; set; }

    /// <summary>Its title, in plain text.</summary>
    [Text(1, 256), Example("Turnstone: check engine 2 by 18:00")]
    public required string Title { get; set; }

    /// <summary>More, in plain text.</summary>
    [Text(1, 4096, Lines = true), Example("Oil pressure was low on the 14:10 crossing.")]
    public string? Body { get; set; }

    /// <summary>Where it leads: a path, or an http(s) address.</summary>
    [Text(1, 2048), Example("/vessels/turnstone")]
    public string? Link { get; set; }

    /// <summary>Anything for the receiving program, up to 16 KiB of JSON.</summary>
    [Example("{\"engine\":2}")]
    public JsonElement? Data { get; set; }

    /// <summary>How urgent it is (RFC 8030); <c>normal</c> when left out.</summary>
    [OneOf("very-low", "low", "normal", "high"), Example("high")]
    public string? Urgency { get; set; }

    /// <summary>Seconds until it expires; the service also takes a duration as text, such as <c>2h</c>.</summary>
    [Whole(1, 315_360_000), Example(14_400)]
    public long? Ttl { get; set; }

    /// <summary>The slot: this notification replaces the last one with the same slot and addresses.</summary>
    [Text(1, 128), Example("turnstone/engine-2")]
    public string? Slot { get; set; }

    /// <summary>False: only for those who are connected now; nothing is kept or counted.</summary>
    [Example(true)]
    public bool? Store { get; set; }

    /// <summary>One member of the role can take it: <c>true</c>, or a duration (<c>30m</c>, <c>{"for":"PT30M"}</c>)
    /// until it is free again.</summary>
    [Example("{\"for\":\"PT30M\"}")]
    public JsonElement? Takeable { get; set; }

    /// <summary>Deadlines, and the notifications sent when they are missed.</summary>
    [AtMost(4, "deadlines")]
    public IReadOnlyList<DeadlineRequest>? Deadlines { get; set; }
}

/// <summary>By when something must have come about, and what is sent otherwise.</summary>
public sealed record DeadlineRequest
{
    /// <summary>The state to reach; <c>read</c> by default.</summary>
    [OneOf("read", "received", "handled", "taken"), Example("taken")]
    public string? By { get; set; }

    /// <summary>In what time, from a second on (ISO 8601).</summary>
    [Example("PT10M")]
    public required string Within { get; set; }

    /// <summary>By one of those it is for, or by each; <c>anyone</c> when left out.</summary>
    [OneOf("anyone", "each"), Example("anyone")]
    public string? Who { get; set; }

    /// <summary>A notification that is sent otherwise: without <c>ttl</c>, <c>slot</c>, <c>store</c>, <c>takeable</c>
    /// and <c>deadlines</c>.</summary>
    [Example("{\"to\":[\"role:duty-manager\"],\"type\":\"engine.check.overdue\",\"title\":\"Nobody has taken the check of engine 2\"}")]
    public JsonElement? Otherwise { get; set; }
}

/// <summary>How a send is carried out.</summary>
public sealed record SendQuery
{
    /// <summary>True: only says whom it would reach.</summary>
    [Example(false)]
    public bool? DryRun { get; set; }
}

/// <summary>The result of a send or dry run.</summary>
public sealed record SendAnswer
{
    /// <summary>True for a dry run: nothing was sent.</summary>
    [Example(false)]
    public bool? DryRun { get; init; }

    /// <summary>False for an ephemeral notification.</summary>
    [Example(true)]
    public bool? Stored { get; init; }

    /// <summary>The notification's id.</summary>
    [Example("01KB8Q0M5H7C4B9A533F1C0E7D")]
    public string? Id { get; init; }

    /// <summary>Its place in the space's history.</summary>
    [Example(4711)]
    public long? Position { get; init; }

    /// <summary>The recipients of each address.</summary>
    public IReadOnlyList<ReachAnswer>? Reach { get; init; }

    /// <summary>True when the Idempotency-Key was used before with the same body: this is the answer of then.</summary>
    [Example(false)]
    public bool? Repeated { get; init; }

    /// <summary>For several: how many are stored.</summary>
    public int? Sent { get; init; }

    /// <summary>For several: how many were refused.</summary>
    public int? Refused { get; init; }

    /// <summary>For several: a result for each, in the order given.</summary>
    public IReadOnlyList<SendResultAnswer>? Results { get; init; }
}

/// <summary>The recipients of an address.</summary>
public sealed record ReachAnswer
{
    /// <summary>The address.</summary>
    [Example("role:engineer")]
    public required string Address { get; init; }

    /// <summary>Users it stands for.</summary>
    [Example(6)]
    public required long Users { get; init; }

    /// <summary>Those of them who are connected.</summary>
    [Example(4)]
    public required long Connected { get; init; }

    /// <summary>Inboxes it is stored for.</summary>
    [Example(6)]
    public required long Stored { get; init; }

    /// <summary>False when nobody was ever known by this address.</summary>
    [Example(true)]
    public required bool Known { get; init; }

    /// <summary>For an unknown address: known ones that are spelled nearly so.</summary>
    public IReadOnlyList<string>? Near { get; init; }
}

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
}

/// <summary>The result of one of several sends: its id, or its problem.</summary>
public sealed record SendResultAnswer
{
    /// <summary>Its id.</summary>
    [Example("01KB8Q0M5H7C4B9A533F1C0E7D")]
    public string? Id { get; init; }

    /// <summary>Its position.</summary>
    [Example(17)]
    public long? Position { get; init; }

    /// <summary>Why it was refused.</summary>
    public ProblemAnswer? Problem { get; init; }
}
