using System.Text.Json;
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

    /// <summary>True: people are always told of it. Mutes and quiet hours don't apply.</summary>
    [Example(false)]
    public bool? Always { get; set; }

    /// <summary>How much of it is sent to devices: all (default); all but body and data; or no title and link either. The rest is
    /// fetched from the inbox.</summary>
    [OneOf("full", "summary", "reference"), Example("full")]
    public string? Carry { get; set; }
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

    /// <summary>What is done otherwise, one thing or a list of up to 8: a notification (without <c>ttl</c>, <c>slot</c>, <c>store</c>,
    /// <c>takeable</c> and <c>deadlines</c>), <c>{"webhook": name}</c>, or <c>{"email": address, "title", "body"}</c>.</summary>
    [Example("[{\"to\":[\"role:duty-manager\"],\"type\":\"engine.check.overdue\",\"title\":\"Nobody has taken the check of engine " +
        "2\"},{\"webhook\":\"pager\"}]")]
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
