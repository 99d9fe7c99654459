using Rovett.Core.Addresses;
using Rovett.Core.Store;

namespace Rovett.Core.Ledgers.Commands.Directory;

/// <summary>A user's entry in the directory. Null members stay unchanged.</summary>
public sealed record DirectoryUser(UserId User, string? DisplayName, string? Locale, IReadOnlyList<string>? Roles)
{
    /// <summary>Whether the user is blocked: no credential is accepted.</summary>
    public bool? Blocked { get; init; }
}

/// <summary>A user as backends and operators see one.</summary>
public sealed record UserInfo(PersonRow Row, IReadOnlyList<string> Held, long Unread, int Sessions);
