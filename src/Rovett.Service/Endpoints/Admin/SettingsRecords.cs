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

    /// <summary>True: types that are not in the catalogue are refused.</summary>
    [Example(false)]
    public bool? StrictTypes { get; set; }

    /// <summary>True: events are kept as they came, and shown with their outcomes.</summary>
    [Example(false)]
    public bool? KeepEventData { get; set; }

    /// <summary>How long repeats of an event are recognised at least, from <c>2d</c> (the default) to <c>90d</c>.</summary>
    [Text(2, 40), Example("7d")]
    public string? RepeatsKeptFor { get; set; }

    /// <summary>How e-mails of missed deadlines are sent.</summary>
    public MailSettingsPatch? Mail { get; set; }
}

/// <summary>How e-mails are sent; absent members stay unchanged.</summary>
public sealed record MailSettingsPatch
{
    /// <summary>The mail server (SMTP).</summary>
    [Text(1, 253), Example("mail.marrowsound.example")]
    public string? Host { get; set; }

    /// <summary>Its port; 587 by default.</summary>
    [Whole(1, 65_535), Example(587)]
    public int? Port { get; set; }

    /// <summary>How the connection is protected: TLS agreed on after connecting (default), TLS from the first byte, or none, which is
    /// only taken in <c>webhookNetworks</c>.</summary>
    [OneOf("starttls", "tls", "none"), Example("starttls")]
    public string? Security { get; set; }

    /// <summary>The user to sign in as.</summary>
    [Text(1, 254), Example("rovett")]
    public string? User { get; set; }

    /// <summary>That user's password; never shown.</summary>
    [Text(1, 1024)]
    public string? Password { get; set; }

    /// <summary>The mailbox that e-mails come from.</summary>
    [Text(1, 254), Example("watch@marrowsound.example")]
    public string? From { get; set; }

    /// <summary>The name beside it.</summary>
    [Text(1, 128), Example("Marrow Sound Ferries")]
    public string? FromName { get; set; }

    /// <summary>The domains that e-mails may go to.</summary>
    [AtMost(100, "texts"), Example("marrowsound.example")]
    public IReadOnlyList<string>? Domains { get; set; }

    /// <summary>The most e-mails in an hour; further ones wait. 100 by default.</summary>
    [Whole(1, 100_000), Example(100)]
    public int? PerHour { get; set; }

    /// <summary>What relative links begin with in e-mails; without it they are left out.</summary>
    [Text(1, 1024), Example("https://crew.marrowsound.example")]
    public string? LinkBase { get; set; }
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

    /// <summary>Whether types that are not in the catalogue are refused.</summary>
    [Example(false)]
    public required bool StrictTypes { get; init; }

    /// <summary>Whether events are kept as they came.</summary>
    [Example(false)]
    public required bool KeepEventData { get; init; }

    /// <summary>How long repeats of an event are recognised at least.</summary>
    [Example("2d")]
    public required string RepeatsKeptFor { get; init; }

    /// <summary>How e-mails of missed deadlines are sent; absent: there are none.</summary>
    public MailSettingsAnswer? Mail { get; init; }
}

/// <summary>How e-mails are sent.</summary>
public sealed record MailSettingsAnswer
{
    /// <summary>The mail server (SMTP).</summary>
    [Example("mail.marrowsound.example")]
    public required string Host { get; init; }

    /// <summary>Its port.</summary>
    [Example(587)]
    public required int Port { get; init; }

    /// <summary>How the connection is protected.</summary>
    [OneOf("starttls", "tls", "none"), Example("starttls")]
    public required string Security { get; init; }

    /// <summary>The user to sign in as.</summary>
    [Example("rovett")]
    public string? User { get; init; }

    /// <summary>Whether a password is set.</summary>
    [Example(true)]
    public required bool HasPassword { get; init; }

    /// <summary>The mailbox that e-mails come from.</summary>
    [Example("watch@marrowsound.example")]
    public required string From { get; init; }

    /// <summary>The name beside it.</summary>
    [Example("Marrow Sound Ferries")]
    public string? FromName { get; init; }

    /// <summary>The domains that e-mails may go to.</summary>
    [Example("marrowsound.example")]
    public required IReadOnlyList<string> Domains { get; init; }

    /// <summary>The most e-mails in an hour.</summary>
    [Example(100)]
    public required int PerHour { get; init; }

    /// <summary>What relative links begin with in e-mails.</summary>
    [Example("https://crew.marrowsound.example")]
    public string? LinkBase { get; init; }
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
