using Rovett.Service.Http;

namespace Rovett.Service.Endpoints.User;

/// <summary>Whose inbox, and which part of it.</summary>
public sealed record PersonInboxQuery
{
    /// <summary>The user's id.</summary>
    [Text(1, 128), Example("mara")]
    public string? User { get; set; }

    /// <summary>All, only unread or only read ones; <c>all</c> when left out.</summary>
    [OneOf("all", "unread", "read"), Example("unread")]
    public string? State { get; set; }

    /// <summary>The most of a page; 50 when left out.</summary>
    [Whole(1, 200), Example(50)]
    public int? Limit { get; set; }

    /// <summary>Where the page begins, from the <c>next</c> link of the page before.</summary>
    public string? Page { get; set; }
}

/// <summary>A page of a user's inbox, newest first, and what the user chose.</summary>
public sealed record PersonInboxAnswer
{
    /// <summary>The user's id.</summary>
    [Example("mara")]
    public required string User { get; init; }

    /// <summary>The notifications.</summary>
    public required IReadOnlyList<InboxItemAnswer> Items { get; init; }

    /// <summary>How many are unread, in the whole inbox.</summary>
    public required TotalsByAnswer Totals { get; init; }

    /// <summary>What the user muted.</summary>
    public required IReadOnlyList<MuteAnswer> Mutes { get; init; }

    /// <summary>The user's quiet hours; absent: none.</summary>
    public QuietAnswer? Quiet { get; init; }
}
