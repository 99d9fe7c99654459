using Rovett.Service.Http;

namespace Rovett.Service.Endpoints.Admin;

/// <summary>A space to create.</summary>
public sealed record SpaceRequest
{
    /// <summary>Its name.</summary>
    [Example("harbour")]
    public string? Name { get; set; }
}

/// <summary>A space that was created, with its first credentials.</summary>
public sealed record SpaceCreated
{
    /// <summary>Its name.</summary>
    [Example("harbour")]
    public required string Name { get; init; }

    /// <summary>Where its API is.</summary>
    [Example("/s/harbour/v1")]
    public required string Path { get; init; }

    /// <summary>Its first credentials; shown this once.</summary>
    public required FirstCredentialsAnswer Credentials { get; init; }
}

/// <summary>The first credentials of a space.</summary>
public sealed record FirstCredentialsAnswer
{
    /// <summary>An API key with the scope <c>admin</c>.</summary>
    [Example("rovett_key_9fK2mQx7Lw0vRt5Yz8JpHs2Yb6Jw0nQmPzXe8Rk5tV")]
    public required string AdminKey { get; init; }

    /// <summary>The secret that tokens are signed with (HS256).</summary>
    [Example("0pQ7mXv2Jr8sYkB4nTz6LdWcHe1GfUaR")]
    public required string TokenSigningSecret { get; init; }
}

/// <summary>The spaces of the service.</summary>
public sealed record SpaceList
{
    /// <summary>The spaces.</summary>
    public required IReadOnlyList<SpaceAnswer> Spaces { get; init; }
}

/// <summary>A space.</summary>
public sealed record SpaceAnswer
{
    /// <summary>Its name.</summary>
    [Example("harbour")]
    public required string Name { get; init; }

    /// <summary>Where its API is.</summary>
    [Example("/s/harbour/v1")]
    public required string Path { get; init; }

    /// <summary>Open sessions.</summary>
    [Example(2)]
    public required int Sessions { get; init; }
}
