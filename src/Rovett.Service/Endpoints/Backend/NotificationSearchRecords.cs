using Rovett.Service.Http;

namespace Rovett.Service.Endpoints.Backend;

/// <summary>Filters for the list; all that are given must match.</summary>
public sealed record NotificationQuery
{
    /// <summary>Their type, or its beginning followed by <c>*</c>.</summary>
    [Text(1, 128), Example("engine.*")]
    public string? Type { get; set; }

    /// <summary>An address they were sent to.</summary>
    [Text(1, 256), Example("role:engineer")]
    public string? Address { get; set; }

    /// <summary>The subject they are about.</summary>
    [Text(1, 256), Example("vessel/turnstone")]
    public string? Subject { get; set; }

    /// <summary>A text in title or body, ignoring case.</summary>
    [Text(1, 128), Example("bow thruster")]
    public string? Text { get; set; }

    /// <summary>The last change to them; <c>stored</c>: unchanged.</summary>
    [OneOf("stored", "taken", "withdrawn", "replaced", "expired"), Example("taken")]
    public string? State { get; set; }

    /// <summary>Stored at this time or later (RFC 3339).</summary>
    [Text(1, 40), Example("2026-11-23T08:00:00Z")]
    public string? Since { get; set; }

    /// <summary>Stored before this time (RFC 3339).</summary>
    [Text(1, 40), Example("2026-11-24T08:00:00Z")]
    public string? Until { get; set; }

    /// <summary>Before this position.</summary>
    [Whole(1, long.MaxValue), Example(4711)]
    public long? Before { get; set; }

    /// <summary>The most notifications of a page; 50 when left out.</summary>
    [Whole(1, 200), Example(50)]
    public int? Limit { get; set; }
}

/// <summary>Notifications, newest first.</summary>
public sealed record NotificationList
{
    /// <summary>The notifications. A page may be short, or empty, and still have a next one: each request searches at most 50,000
    /// positions.</summary>
    public required IReadOnlyList<ListedNotificationAnswer> Notifications { get; init; }
}

/// <summary>A notification in a list.</summary>
public sealed record ListedNotificationAnswer
{
    /// <summary>Its id.</summary>
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

    /// <summary>Its type.</summary>
    [Example("engine.check.due")]
    public required string Type { get; init; }

    /// <summary>The subject it is about.</summary>
    [Example("vessel/turnstone")]
    public string? Subject { get; init; }

    /// <summary>Its title, in plain text.</summary>
    [Example("Turnstone: check engine 2 by 18:00")]
    public required string Title { get; init; }

    /// <summary>How urgent it is (RFC 8030).</summary>
    [OneOf("very-low", "low", "normal", "high"), Example("high")]
    public string? Urgency { get; init; }

    /// <summary>The last change to it; <c>stored</c>: unchanged.</summary>
    [OneOf("stored", "taken", "withdrawn", "replaced", "expired"), Example("taken")]
    public required string State { get; init; }

    /// <summary>The taker.</summary>
    public TakenAnswer? Taken { get; init; }

    /// <summary>How many people its addresses reach now. People reached by two addresses count twice.</summary>
    [Example(6)]
    public required long For { get; init; }

    /// <summary>How many people have it in each state.</summary>
    public required PeopleAnswer People { get; init; }
}
