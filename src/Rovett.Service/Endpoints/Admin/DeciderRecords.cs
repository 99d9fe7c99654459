using Rovett.Service.Http;

namespace Rovett.Service.Endpoints.Admin;

/// <summary>A backend that policies ask.</summary>
public sealed record DeciderRequest
{
    /// <summary>Where it is asked: an https address.</summary>
    [Example("https://backend.marrowsound.example/decide")]
    public string? Url { get; set; }

    /// <summary>The secret that signs the questions: <c>whsec_</c> and 24 to 64 bytes in base64. One is created when it
    /// is left out.</summary>
    public string? Secret { get; set; }

    /// <summary>How long it is waited for, in milliseconds; 2000 when left out.</summary>
    [Whole(50, 10_000), Example(2000)]
    public int? TimeoutMs { get; set; }

    /// <summary>For how long an "allow" is remembered; 300 when left out.</summary>
    [Whole(1, 86_400), Example(300)]
    public int? AllowSeconds { get; set; }

    /// <summary>For how long a "deny" is remembered; 10 when left out.</summary>
    [Whole(0, 86_400), Example(10)]
    public int? DenySeconds { get; set; }
}

/// <summary>A backend that policies ask, and how it answers.</summary>
public sealed record DeciderAnswer
{
    /// <summary>Its name.</summary>
    [Example("rosters")]
    public required string Name { get; init; }

    /// <summary>Where it is asked.</summary>
    [Example("https://backend.marrowsound.example/decide")]
    public required string Url { get; init; }

    /// <summary>The secret that signs the questions; shown when it is set, never again.</summary>
    [Example("whsec_MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw")]
    public string? Secret { get; init; }

    /// <summary>How long it is waited for, in milliseconds.</summary>
    [Example(2000)]
    public required int TimeoutMs { get; init; }

    /// <summary>For how long an "allow" is remembered.</summary>
    [Example(300)]
    public required int AllowSeconds { get; init; }

    /// <summary>For how long a "deny" is remembered.</summary>
    [Example(10)]
    public required int DenySeconds { get; init; }

    /// <summary>How it goes. <c>resting</c>: it failed too often, and is not asked for a while.</summary>
    [OneOf("not asked yet", "working", "failing", "resting"), Example("working")]
    public required string State { get; init; }

    /// <summary>Questions asked since the start.</summary>
    [Example(18)]
    public required long Asked { get; init; }

    /// <summary>Answered with "allow".</summary>
    [Example(15)]
    public required long Allowed { get; init; }

    /// <summary>Answered with "deny".</summary>
    [Example(3)]
    public required long Denied { get; init; }

    /// <summary>Not answered, or not understood.</summary>
    [Example(0)]
    public required long Failed { get; init; }

    /// <summary>The last failure.</summary>
    public string? LastError { get; init; }
}

/// <summary>The deciders of a space.</summary>
public sealed record DeciderList
{
    /// <summary>The deciders.</summary>
    public required IReadOnlyList<DeciderAnswer> Deciders { get; init; }
}
