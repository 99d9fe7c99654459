using System.Text.Json.Serialization;
using Rovett.Service.Http;

namespace Rovett.Service.Endpoints.Admin;

/// <summary>Settings to change: a JSON merge patch (RFC 7396). Null takes a setting back to its default.</summary>
public sealed record SettingsPatch
{
    /// <summary>Requirements for tokens.</summary>
    public TokenSettingsPatch? Tokens { get; set; }

    /// <summary>Limits of this space, in place of the service's.</summary>
    public LimitSettings? Limits { get; set; }

    /// <summary>The browser origins that may connect, in place of the service's.</summary>
    [AtMost(100, "texts"), Example("https://crew.marrowsound.example")]
    public IReadOnlyList<string>? Origins { get; set; }

    /// <summary>The time zone in which rules show times: a name of the IANA database.</summary>
    [Text(1, 64), Example("Europe/Berlin")]
    public string? TimeZone { get; set; }
}

/// <summary>Requirements for tokens; absent members stay unchanged.</summary>
public sealed record TokenSettingsPatch
{
    /// <summary>A token must name one of these as its audience; empty: any or none is accepted.</summary>
    [AtMost(16, "texts"), Text(1, 512), Example("marrow-sound")]
    public IReadOnlyList<string>? Audiences { get; set; }

    /// <summary>The algorithms that tokens may be signed with.</summary>
    [AtMost(4, "texts"), OneOf("HS256", "RS256", "ES256", "EdDSA"), Example("HS256", "EdDSA")]
    public IReadOnlyList<string>? Algorithms { get; set; }

    /// <summary>Where a token names the user: a claim, or a JSON Pointer (RFC 6901) into the claims.</summary>
    [Text(1, 256), Example("sub")]
    public string? UserClaim { get; set; }

    /// <summary>Where a token names the roles.</summary>
    [Text(1, 256), Example("roles")]
    public string? RolesClaim { get; set; }

    /// <summary>How far the clocks of the issuer and of this service may be apart.</summary>
    [Whole(0, 300), Example(30)]
    public int? ClockSkewSeconds { get; set; }

    /// <summary>The longest a token may live, from <c>iat</c> to <c>exp</c>.</summary>
    [Whole(60, 31_622_400), Example(604_800)]
    public int? MaxLifeSeconds { get; set; }
}

/// <summary>Limits of a space.</summary>
public sealed record LimitSettings
{
    /// <summary>Sends of one API key a second; null: the service's limit; 0: any number.</summary>
    [Whole(0, 1_000_000), Example(200), JsonIgnore(Condition = JsonIgnoreCondition.Never)]
    public int? SendsPerSecond { get; set; }

    /// <summary>Sessions of one user at a time; null: the service's limit; 0: any number.</summary>
    [Whole(0, 1_000_000), Example(20), JsonIgnore(Condition = JsonIgnoreCondition.Never)]
    public int? SessionsPerUser { get; set; }
}

/// <summary>The settings of a space, set or not.</summary>
public sealed record SettingsAnswer
{
    /// <summary>Requirements for tokens.</summary>
    public required TokenSettings Tokens { get; init; }

    /// <summary>Limits of this space, in place of the service's.</summary>
    public required LimitSettings Limits { get; init; }

    /// <summary>The browser origins that may connect; null: those of the service's configuration.</summary>
    [Example("https://crew.marrowsound.example"), JsonIgnore(Condition = JsonIgnoreCondition.Never)]
    public IReadOnlyList<string>? Origins { get; init; }

    /// <summary>The time zone in which rules show times.</summary>
    [Example("Europe/Berlin")]
    public required string TimeZone { get; init; }
}

/// <summary>Requirements for tokens.</summary>
public sealed record TokenSettings
{
    /// <summary>A token must name one of these as its audience; empty: any or none is accepted.</summary>
    [Example("marrow-sound")]
    public required IReadOnlyList<string> Audiences { get; init; }

    /// <summary>The algorithms that tokens may be signed with.</summary>
    [OneOf("HS256", "RS256", "ES256", "EdDSA"), Example("HS256", "EdDSA")]
    public required IReadOnlyList<string> Algorithms { get; init; }

    /// <summary>Where a token names the user.</summary>
    [Example("sub")]
    public required string UserClaim { get; init; }

    /// <summary>Where a token names the roles.</summary>
    [Example("roles")]
    public required string RolesClaim { get; init; }

    /// <summary>How far the clocks of the issuer and of this service may be apart.</summary>
    [Example(30)]
    public required int ClockSkewSeconds { get; init; }

    /// <summary>The longest a token may live, from <c>iat</c> to <c>exp</c>.</summary>
    [Example(604_800)]
    public required int MaxLifeSeconds { get; init; }
}
