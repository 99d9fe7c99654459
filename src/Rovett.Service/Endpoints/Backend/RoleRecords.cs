using Rovett.Service.Http;

namespace Rovett.Service.Endpoints.Backend;

/// <summary>A role's settings.</summary>
public sealed record RoleRequest
{
    /// <summary>The name that people read.</summary>
    [Text(1, 128), Example("Engineers")]
    public string? DisplayName { get; set; }

    /// <summary>The history a new holder of the role sees: <c>now</c>, nothing of what was sent before; or a look-back such
    /// as <c>7d</c>.</summary>
    [Example("7d")]
    public string? Newcomers { get; set; }

    /// <summary>Visibility of members' presence.</summary>
    [OneOf("members", "nobody", Is = "members (members see who is connected) or nobody"), Example("members")]
    public string? Presence { get; set; }
}

/// <summary>A role in the query, for names that are not valid in a path.</summary>
public sealed record RoleQuery
{
    /// <summary>The role.</summary>
    [Example("engineer")]
    public string? Role { get; set; }
}

/// <summary>A role, its settings, and how many have it.</summary>
public sealed record RoleAnswer
{
    /// <summary>The role.</summary>
    [Example("engineer")]
    public required string Role { get; init; }

    /// <summary>The name that people read.</summary>
    [Example("Engineers")]
    public string? DisplayName { get; init; }

    /// <summary>The history a new holder sees: <c>now</c>, or how far back (ISO 8601). Absent where the service's
    /// default is used.</summary>
    [Example("P7D")]
    public string? Newcomers { get; init; }

    /// <summary>Visibility of members' presence.</summary>
    [OneOf("members", "nobody"), Example("members")]
    public required string Presence { get; init; }

    /// <summary>Users who have the role.</summary>
    [Example(6)]
    public required long Users { get; init; }

    /// <summary>Those of them who are connected.</summary>
    [Example(4)]
    public required long Connected { get; init; }
}

/// <summary>A role and how many have it.</summary>
public sealed record RoleSummary
{
    /// <summary>The role.</summary>
    [Example("engineer")]
    public required string Role { get; init; }

    /// <summary>Users who have it.</summary>
    [Example(6)]
    public required long Users { get; init; }
}

/// <summary>The roles of a space.</summary>
public sealed record RoleList
{
    /// <summary>The roles.</summary>
    public required IReadOnlyList<RoleSummary> Roles { get; init; }
}
