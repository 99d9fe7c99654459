using System.Text.Json;
using System.Text.Json.Serialization;
using Rovett.Core.Choices;
using Rovett.Core.Visibility;
using Rovett.Service.Endpoints.Backend;
using Rovett.Service.Http;

namespace Rovett.Service.Endpoints.User;

/// <summary>Which notifications of the inbox are listed.</summary>
public sealed record InboxQuery
{
    /// <summary>All, only unread or only read ones; <c>all</c> when left out.</summary>
    [OneOf("all", "unread", "read"), Example("unread")]
    public string? State { get; set; }

    /// <summary>The most of a page; 50 when left out.</summary>
    [Whole(1, 200), Example(50)]
    public int? Limit { get; set; }

    /// <summary>Where the page begins, from the <c>next</c> link of the page before.</summary>
    public string? Page { get; set; }

    /// <summary>Only these, at most 100 ids with commas between them, and also those that came by a subscription of a session of the
    /// user's. One that is gone is left out. Without other members.</summary>
    [Example("01KB8Q0M5H7C4B9A533F1C0E7D")]
    public string? Ids { get; set; }
}

/// <summary>A page of an inbox, newest first.</summary>
public sealed record InboxAnswer
{
    /// <summary>The notifications.</summary>
    public required IReadOnlyList<InboxItemAnswer> Items { get; init; }

    /// <summary>How many are unread, in the whole inbox.</summary>
    public required TotalsByAnswer Totals { get; init; }

    /// <summary>Everything up to here is in the answer or on further pages; a session can catch up from it.</summary>
    [Example("9dKx2Qp0mZ47a5PVrzA4WJ")]
    public required string Cursor { get; init; }
}

/// <summary>A notification in a user's inbox.</summary>
public sealed record InboxItemAnswer : NotificationContent
{
    /// <summary>Where it stands; <c>upTo</c> takes it.</summary>
    [Example("9dKx2Qp0mZ47a5PVrzA4WJ")]
    public required string Cursor { get; init; }

    /// <summary>The notification's id.</summary>
    [Example("01KB8Q0M5H7C4B9A533F1C0E7D")]
    public required string Id { get; init; }

    /// <summary>The address by which it reached the user.</summary>
    [Example("role:engineer")]
    public required string To { get; init; }

    /// <summary>When it was stored.</summary>
    public required StoredTime Time { get; init; }

    /// <summary>How it stands with the user.</summary>
    public required ItemState State { get; init; }
}

/// <summary>How a notification stands with a user.</summary>
public sealed record ItemState
{
    /// <summary>When a device acknowledged it, or null.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.Never)]
    public StoredTime? Received { get; init; }

    /// <summary>When the user saw it, or null.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.Never)]
    public StoredTime? Read { get; init; }

    /// <summary>True when it came while the user had its type or subject muted.</summary>
    public bool? Muted { get; init; }

    /// <summary>True when the user has taken it.</summary>
    public bool? Taken { get; init; }
}

/// <summary>How many notifications are unread.</summary>
public record TotalsByAnswer
{
    /// <summary>Unread notifications.</summary>
    [Example(3), JsonPropertyOrder(-1)]
    public required long Unread { get; init; }

    /// <summary>The newest change that is counted.</summary>
    [JsonPropertyOrder(-1)]
    public required StoredTime AsOf { get; init; }

    /// <summary>Goes up with every change of the count.</summary>
    [Example(17), JsonPropertyOrder(-1)]
    public required long Rev { get; init; }

    /// <summary>Unread notifications by the address they came by.</summary>
    [Example("{\"user:mara\":1,\"role:engineer\":2}"), JsonPropertyOrder(-1)]
    public required IReadOnlyDictionary<string, long> By { get; init; }

    internal static TotalsByAnswer Of(TotalsBy totals) => new()
    {
        Unread = totals.Totals.Unread,
        AsOf = totals.Totals.AsOf,
        Rev = totals.Totals.Rev,
        By = new OrderedDictionary<string, long>(totals.By),
    };
}

/// <summary>The totals to answer.</summary>
public sealed record TotalsQuery
{
    /// <summary><c>type</c>: also by type.</summary>
    [OneOf("type", Is = "type, or left out"), Example("type")]
    public string? By { get; set; }

    /// <summary>Also of one subject.</summary>
    [Example("vessel/turnstone")]
    public string? Subject { get; set; }
}

/// <summary>Totals, and what else was asked for.</summary>
public sealed record TotalsAnswer : TotalsByAnswer
{
    /// <summary>Unread notifications by type.</summary>
    [Example("{\"engine.check.due\":2,\"roster.changed\":1}")]
    public IReadOnlyDictionary<string, long>? ByType { get; init; }

    /// <summary>Unread notifications about the subject.</summary>
    public SubjectTotal? Subject { get; init; }
}

/// <summary>How many notifications about a subject are unread.</summary>
public sealed record SubjectTotal
{
    /// <summary>The subject.</summary>
    [Example("vessel/turnstone")]
    public required string Name { get; init; }

    /// <summary>Unread notifications.</summary>
    [Example(2)]
    public required long Unread { get; init; }
}

/// <summary>Notifications to mark: exactly one of the members.</summary>
public sealed record MarksRequest
{
    /// <summary>The user has seen them.</summary>
    public MarkSelector? Read { get; set; }

    /// <summary>The user wants them unread again.</summary>
    public MarkSelector? Unread { get; set; }

    /// <summary>A device has them.</summary>
    public MarkSelector? Received { get; set; }
}

/// <summary>Which notifications: exactly one of the members.</summary>
public sealed record MarkSelector
{
    /// <summary>These.</summary>
    [AtMost(500, "ids"), Example("01KB8Q0M5H7C4B9A533F1C0E7D")]
    public IReadOnlyList<string>? Ids { get; set; }

    /// <summary>All up to a cursor.</summary>
    public string? UpTo { get; set; }

    /// <summary>All about a subject.</summary>
    public string? Subject { get; set; }

    /// <summary>All.</summary>
    public bool? All { get; set; }
}

/// <summary>The totals after what was done.</summary>
public sealed record TotalsAfter
{
    /// <summary>The totals.</summary>
    public required TotalsByAnswer Totals { get; init; }
}

/// <summary>The type or subject to mute: exactly one of the members.</summary>
public sealed record MuteRequest
{
    /// <summary>Every notification of this type.</summary>
    [Example("roster.changed")]
    public string? Type { get; set; }

    /// <summary>Every notification about this subject.</summary>
    public string? Subject { get; set; }
}

/// <summary>A user's mutes.</summary>
public sealed record MuteList
{
    /// <summary>The mutes.</summary>
    public required IReadOnlyList<MuteAnswer> Mutes { get; init; }
}

/// <summary>A type or subject that a user has muted.</summary>
public sealed record MuteAnswer
{
    /// <summary>The type.</summary>
    [Example("roster.changed")]
    public string? Type { get; init; }

    /// <summary>The subject.</summary>
    public string? Subject { get; init; }

    /// <summary>Since when.</summary>
    public required StoredTime Since { get; init; }
}

/// <summary>What a user chose, all of it.</summary>
public sealed record ChoicesRequest
{
    /// <summary>The types and subjects to mute; left out or empty: none.</summary>
    [AtMost(100, "mutes")]
    public IReadOnlyList<MuteRequest>? Mutes { get; set; }

    /// <summary>When devices are not to ring; left out or null: at no time.</summary>
    [Example("{\"timeZone\":\"Europe/Berlin\",\"hours\":[" +
        "{\"days\":[\"mon\",\"tue\",\"wed\",\"thu\",\"fri\"],\"from\":\"22:00\",\"to\":\"06:30\"}]}")]
    public JsonElement? Quiet { get; set; }
}

/// <summary>What a user chose.</summary>
public sealed record ChoicesAnswer
{
    /// <summary>The rev of the last change of it; 0: nothing was ever chosen.</summary>
    [Example(7)]
    public required long Rev { get; init; }

    /// <summary>What is muted.</summary>
    public required IReadOnlyList<MuteAnswer> Mutes { get; init; }

    /// <summary>The quiet hours; absent: none.</summary>
    public QuietAnswer? Quiet { get; init; }

    /// <summary>The quiet hours of the next 48 hours as instants.</summary>
    public required IReadOnlyList<QuietSpanAnswer> QuietSpans { get; init; }

    /// <summary>The types of the catalogue that have a name for people, in the language asked for (<c>Accept-Language</c>).</summary>
    public required IReadOnlyList<ChosenType> Types { get; init; }
}

/// <summary>A type that can be chosen.</summary>
public sealed record ChosenType
{
    /// <summary>The type.</summary>
    [Example("engine.check.due")]
    public required string Type { get; init; }

    /// <summary>Its name for people.</summary>
    [Example("Engine checks")]
    public required string Name { get; init; }

    /// <summary>True when people are always told of it; it can't be muted.</summary>
    public bool? Always { get; init; }
}

/// <summary>Quiet hours.</summary>
public sealed record QuietAnswer
{
    /// <summary>The time zone in which they are meant.</summary>
    [Example("Europe/Berlin")]
    public required string TimeZone { get; init; }

    /// <summary>The times.</summary>
    public required IReadOnlyList<QuietTimeAnswer> Hours { get; init; }

    internal static QuietAnswer Of(QuietHours quiet) => new()
    {
        TimeZone = quiet.Zone.Id,
        Hours = [.. quiet.Times.Select(t => new QuietTimeAnswer
        {
            Days = t.IsDaily ? null : [.. t.Days.Select(QuietHours.NameOf)],
            From = QuietHours.TextOf(t.From),
            To = QuietHours.TextOf(t.To),
        })],
    };
}

/// <summary>A time of some days.</summary>
public sealed record QuietTimeAnswer
{
    /// <summary>The days on which it begins; absent: every day.</summary>
    [OneOf("mon", "tue", "wed", "thu", "fri", "sat", "sun"), Example("sat", "sun")]
    public IReadOnlyList<string>? Days { get; init; }

    /// <summary>Its begin, as the clock shows it there.</summary>
    [Example("22:00")]
    public required string From { get; init; }

    /// <summary>Its end; not after the begin: on the next day.</summary>
    [Example("06:30")]
    public required string To { get; init; }
}

/// <summary>A span in which devices don't ring.</summary>
public sealed record QuietSpanAnswer
{
    /// <summary>Its begin.</summary>
    public required StoredTime From { get; init; }

    /// <summary>Its end.</summary>
    public required StoredTime To { get; init; }
}

/// <summary>A topic to follow or unfollow.</summary>
public sealed record FollowRequest
{
    /// <summary>The topic.</summary>
    [Example("vessel/turnstone")]
    public string? Topic { get; set; }
}

/// <summary>The topics a user follows.</summary>
public sealed record FollowList
{
    /// <summary>The topics.</summary>
    public required IReadOnlyList<FollowAnswer> Follows { get; init; }

    /// <summary>The totals after a change.</summary>
    public FollowTotals? Totals { get; init; }
}

/// <summary>A topic that a user follows.</summary>
public sealed record FollowAnswer
{
    /// <summary>The topic.</summary>
    [Example("vessel/turnstone")]
    public required string Topic { get; init; }

    /// <summary>False as long as the user may not: nothing of it is sent, listed or counted.</summary>
    [Example(true)]
    public required bool Active { get; init; }
}

/// <summary>How many notifications are unread, without a breakdown.</summary>
public sealed record FollowTotals
{
    /// <summary>Unread notifications.</summary>
    [Example(3)]
    public required long Unread { get; init; }

    /// <summary>The newest change that is counted.</summary>
    public required StoredTime AsOf { get; init; }

    /// <summary>Goes up with every change of the count.</summary>
    [Example(17)]
    public required long Rev { get; init; }

    internal static FollowTotals Of(Totals totals) => new() { Unread = totals.Unread, AsOf = totals.AsOf, Rev = totals.Rev };
}

/// <summary>A ticket to connect with.</summary>
public sealed record TicketAnswer
{
    /// <summary>The ticket: for one connection, as <c>?ticket=</c>.</summary>
    [Example("rovett_ticket_5Jw0nQmPzXe8Rk2Yb6Jw0nQmPzXe8Rk5tVhA7Lw0vRt")]
    public required string Ticket { get; init; }

    /// <summary>How long it can be used.</summary>
    [Example(60)]
    public required int OpensWithinSeconds { get; init; }

    /// <summary>When the token it stands for expires.</summary>
    public required StoredTime Expires { get; init; }
}
