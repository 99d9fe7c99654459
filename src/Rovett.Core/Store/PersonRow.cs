using Rovett.Core.Policies;

namespace Rovett.Core.Store;

/// <summary>A stored user. <see cref="Seen"/> is null for somebody who was only ever written to; <see cref="RolesChangedAt"/>
/// is the position of the newest change of what the user holds.</summary>
public sealed record PersonRow(long Id, string User, StoredTime? Seen, long Rev, long RolesIssuedAt, long RolesChangedAt,
    IReadOnlyList<string> TokenRoles, IReadOnlyList<string> DirectoryRoles, string? DisplayName, string? Locale)
{
    /// <summary>Credentials made before this do not hold; microseconds.</summary>
    public long ValidFrom { get; init; }

    /// <summary>No credential of the user's holds.</summary>
    public bool Blocked { get; init; }

    /// <summary>What the newest token says that policies look at (<see cref="ClaimSet"/>).</summary>
    public string Claims { get; init; } = "";

    /// <summary>Tokens whose <c>iat</c> (microseconds) lay ahead of the time when they were shown; below zero: shown
    /// before a sign-out, so that it is no longer valid.</summary>
    public IReadOnlyList<long> Ahead { get; init; } = [];

    /// <summary>The position at which <see cref="Claims"/> last changed.</summary>
    public long ClaimsAt { get; init; }

    /// <summary>The quiet hours, as JSON; empty: none.</summary>
    public string Quiet { get; init; } = "";

    /// <summary>The rev of the last change of mutes and quiet hours.</summary>
    public long ChoicesRev { get; init; }

    /// <summary>Up to which change of policies and roles' grants it is settled which topics the user may follow; null
    /// for one who follows none.</summary>
    public long? RulesSeen { get; init; }
}
