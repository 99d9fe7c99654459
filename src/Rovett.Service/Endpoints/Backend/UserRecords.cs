using System.Text.Json.Serialization;
using Rovett.Service.Http;

namespace Rovett.Service.Endpoints.Backend;

/// <summary>A user as a backend puts it. What is left out stays as it is.</summary>
public sealed record UserRequest
{
    /// <summary>The user's id, where the path does not name it.</summary>
    [Example("mara")]
    public string? Id { get; set; }

    /// <summary>The name that people read.</summary>
    [Text(1, 128), Example("Mara Lindqvist")]
    public string? DisplayName { get; set; }

    /// <summary>The language and region (BCP 47).</summary>
    [Text(1, 35), Example("en-GB")]
    public string? Locale { get; set; }

    /// <summary>All roles of the user in the directory.</summary>
    [AtMost(64, "role names"), Example("engineer", "duty-manager")]
    public IReadOnlyList<string>? Roles { get; set; }

    /// <summary>True: no credential of the user's is accepted, and its sessions end.</summary>
    [Example(false)]
    public bool? Blocked { get; set; }
}

/// <summary>A user as the directory has it.</summary>
public record UserSummary
{
    /// <summary>The user's id.</summary>
    [Example("mara"), JsonPropertyOrder(-1)]
    public required string Id { get; init; }

    /// <summary>The name that people read.</summary>
    [Example("Mara Lindqvist"), JsonPropertyOrder(-1)]
    public string? DisplayName { get; init; }

    /// <summary>The language and region (BCP 47).</summary>
    [Example("en-GB"), JsonPropertyOrder(-1)]
    public string? Locale { get; init; }

    /// <summary>The user's roles in the directory.</summary>
    [Example("engineer", "duty-manager"), JsonPropertyOrder(-1)]
    public required IReadOnlyList<string> Roles { get; init; }

    /// <summary>True when no credential of the user's is accepted.</summary>
    [Example(true), JsonPropertyOrder(-1)]
    public bool? Blocked { get; init; }

    /// <summary>Credentials that were made before this time are not accepted.</summary>
    [JsonPropertyOrder(-1)]
    public StoredTime? ValidFrom { get; init; }

    /// <summary>Since when the user is known; absent for one who was only ever sent something.</summary>
    [JsonPropertyOrder(-1)]
    public StoredTime? Since { get; init; }
}

/// <summary>A user, with what it has now.</summary>
public sealed record UserAnswer : UserSummary
{
    /// <summary>The addresses the user receives from: those of directory and token together.</summary>
    [Example("user:mara", "role:engineer", "role:duty-manager", "everyone")]
    public required IReadOnlyList<string> Holds { get; init; }

    /// <summary>Unread notifications.</summary>
    [Example(3)]
    public required long Unread { get; init; }

    /// <summary>Sessions that are open now.</summary>
    [Example(1)]
    public required int Sessions { get; init; }
}

/// <summary>Which users are listed.</summary>
public sealed record UserQuery
{
    /// <summary>Only this user, with all that is known of it. For ids that are not valid in a path.</summary>
    [Example("mara")]
    public string? Id { get; set; }

    /// <summary>Users after this id.</summary>
    [Example("mara")]
    public string? After { get; set; }

    /// <summary>Only those with this text in their id or name, ignoring case.</summary>
    [Text(1, 128), Example("mar")]
    public string? Search { get; set; }

    /// <summary>The most users of a page; 50 when left out.</summary>
    [Whole(1, 500), Example(50)]
    public int? Limit { get; set; }
}

/// <summary>Users by id.</summary>
public sealed record UserPage
{
    /// <summary>The users.</summary>
    public required IReadOnlyList<UserSummary> Users { get; init; }
}

/// <summary>A user in the query, for ids that are not valid in a path.</summary>
public sealed record UserIdQuery
{
    /// <summary>The user's id.</summary>
    [Example("mara")]
    public string? Id { get; set; }
}

/// <summary>The result of a sign-out.</summary>
public sealed record SignOutAnswer
{
    /// <summary>The user's id.</summary>
    [Example("mara")]
    public required string Id { get; init; }

    /// <summary>Credentials that were made before this time are not accepted.</summary>
    public required StoredTime ValidFrom { get; init; }

    /// <summary>Sessions that were open and have ended.</summary>
    [Example(2)]
    public required int SessionsEnded { get; init; }
}

/// <summary>The state of an erasure.</summary>
public sealed record ErasureAnswer
{
    /// <summary>The pseudonym by which the history knows the person.</summary>
    [Example("erased-17")]
    public required string Erased { get; init; }

    /// <summary>Notifications whose text was removed.</summary>
    [Example(42)]
    public required long Notifications { get; init; }
}

/// <summary>How an import went; in an answer of several lines, also how far it is.</summary>
public sealed record ImportAnswer
{
    /// <summary>Lines read so far; absent in the result.</summary>
    public long? Line { get; init; }

    /// <summary>Users stored.</summary>
    [Example(2)]
    public required long Stored { get; init; }

    /// <summary>Lines refused.</summary>
    [Example(0)]
    public required long Refused { get; init; }

    /// <summary>Why the import was cut short.</summary>
    public ProblemAnswer? Problem { get; init; }

    /// <summary>Mistakes in refused lines, the first 50.</summary>
    public IReadOnlyList<FieldErrorAnswer>? Errors { get; init; }
}
