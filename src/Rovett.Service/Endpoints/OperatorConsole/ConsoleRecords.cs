using System.Text.Json;
using System.Text.Json.Serialization;
using Rovett.Service.Endpoints.Admin;
using Rovett.Service.Endpoints.Backend;
using Rovett.Service.Http;

namespace Rovett.Service.Endpoints.OperatorConsole;

/// <summary>The operator signed in to the console.</summary>
public sealed record MeAnswer
{
    /// <summary>The operator's name, or null.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.Never)]
    public string? Operator { get; init; }

    /// <summary>The operator's rights, or null.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.Never)]
    public string? May { get; init; }

    /// <summary>False until the first operator has signed up.</summary>
    public required bool AnyOperator { get; init; }

    /// <summary>The spaces.</summary>
    public required IReadOnlyList<string> Spaces { get; init; }
}

/// <summary>A name with a password, and for a sign-up its link.</summary>
public sealed record SignInRequest
{
    /// <summary>The operator's name.</summary>
    [Text(1, 128)]
    public string? Name { get; set; }

    /// <summary>The password.</summary>
    [Text(1, 128)]
    public string? Password { get; set; }

    /// <summary>The secret of a sign-up link.</summary>
    [Text(1, 128)]
    public string? Link { get; set; }
}

/// <summary>The data of the Access page.</summary>
public sealed record AccessAnswer
{
    /// <summary>The version of the policies; 0: none was loaded.</summary>
    public required long PolicyVersion { get; init; }

    /// <summary>The policies.</summary>
    public required JsonElement Policies { get; init; }

    /// <summary>The deciders.</summary>
    public required IReadOnlyList<DeciderState> Deciders { get; init; }

    /// <summary>Origins that were refused.</summary>
    public required IReadOnlyList<RefusedOriginAnswer> RefusedOrigins { get; init; }

    /// <summary>The limits.</summary>
    public required IReadOnlyList<LimitState> Limits { get; init; }

    /// <summary>The newest lines of the trail.</summary>
    public required IReadOnlyList<ActAnswer> Acts { get; init; }
}

/// <summary>How a decider answers.</summary>
public sealed record DeciderState
{
    /// <summary>Its name.</summary>
    public required string Name { get; init; }

    /// <summary>Questions asked.</summary>
    public required long Asked { get; init; }

    /// <summary>Questions not answered.</summary>
    public required long Failed { get; init; }

    /// <summary>True when it is not asked for a while.</summary>
    public required bool Resting { get; init; }

    /// <summary>The last failure.</summary>
    public string? LastError { get; init; }
}

/// <summary>A limit; 0: there is none.</summary>
public sealed record LimitState
{
    /// <summary>Its name.</summary>
    public required string Name { get; init; }

    /// <summary>The limit.</summary>
    public required int Limit { get; init; }

    /// <summary>The most that is used of it now.</summary>
    public required int Used { get; init; }

    /// <summary>The quantity it limits.</summary>
    public required string What { get; init; }
}

/// <summary>Operators of the console, and the newest sign-ins.</summary>
public sealed record OperatorsAnswer
{
    /// <summary>The operators.</summary>
    public required IReadOnlyList<OperatorAnswer> Operators { get; init; }

    /// <summary>Their sessions that go on, the newest first, at most 200.</summary>
    public required IReadOnlyList<OperatorSessionAnswer> Sessions { get; init; }

    /// <summary>The newest sign-ins and refused attempts.</summary>
    public required IReadOnlyList<SignInAnswer> SignIns { get; init; }
}

/// <summary>An operator.</summary>
public sealed record OperatorAnswer
{
    /// <summary>The name.</summary>
    public required string Name { get; init; }

    /// <summary>The operator's rights.</summary>
    public required string May { get; init; }

    /// <summary>Since when.</summary>
    public required StoredTime Since { get; init; }
}

/// <summary>An operator's session of the console.</summary>
public sealed record OperatorSessionAnswer
{
    /// <summary>The operator.</summary>
    public required string Operator { get; init; }

    /// <summary>Since when.</summary>
    public required StoredTime Since { get; init; }

    /// <summary>When it ends, unless it is used until then.</summary>
    public required StoredTime Ends { get; init; }

    /// <summary>The network address it was begun from.</summary>
    public required string Address { get; init; }

    /// <summary>The browser.</summary>
    public required string Agent { get; init; }
}

/// <summary>A sign-in, or an attempt.</summary>
public sealed record SignInAnswer
{
    /// <summary>The name that was given.</summary>
    public required string Operator { get; init; }

    /// <summary>When.</summary>
    public required StoredTime Time { get; init; }

    /// <summary>The network address.</summary>
    public required string Address { get; init; }

    /// <summary>The browser.</summary>
    public required string Agent { get; init; }

    /// <summary>False: it was refused.</summary>
    public required bool SignedIn { get; init; }
}

/// <summary>The rights of the invited operator.</summary>
public sealed record LinkRequest
{
    /// <summary>Look, or also change.</summary>
    [OneOf("view", "operate"), Example("view")]
    public string? May { get; set; }
}

/// <summary>A link by which somebody signs up at the console, once.</summary>
public sealed record LinkAnswer
{
    /// <summary>The link.</summary>
    [Example("https://rovett.marrowsound.example/console#sign-up=7Jx2mQ0bV4k9dKx2Qp0aZ4")]
    public required string Link { get; init; }

    /// <summary>The rights of the new operator.</summary>
    [OneOf("view", "operate"), Example("view")]
    public required string May { get; init; }

    /// <summary>How many minutes it can be used.</summary>
    [Example(15)]
    public required int Minutes { get; init; }
}

/// <summary>An operator to remove.</summary>
public sealed record OperatorName
{
    /// <summary>The name.</summary>
    public string? Name { get; set; }
}

/// <summary>A user to sign out, or to stand in for.</summary>
public sealed record UserName
{
    /// <summary>The user's id.</summary>
    public string? User { get; set; }
}

/// <summary>A credential to connect as a person.</summary>
public sealed record StandInAnswer
{
    /// <summary>The credential, in place of a user's token.</summary>
    public required string Token { get; init; }

    /// <summary>When it ends.</summary>
    public required StoredTime Ends { get; init; }
}
