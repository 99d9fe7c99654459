using Rovett.Core.Addresses;
using Rovett.Core.Store;

namespace Rovett.Core.Ledgers.Commands.Directory;

/// <summary>What the directory says of a user. Members that are null are left as they are.</summary>
public sealed record DirectoryUser(UserId User, string? DisplayName, string? Locale, IReadOnlyList<string>? Roles)
{
    /// <summary>Whether no credential of the user's holds.</summary>
    public bool? Blocked { get; init; }
}

/// <summary>A user as backends and operators see one.</summary>
public sealed record UserInfo(PersonRow Row, IReadOnlyList<string> Held, long Unread, int Sessions);
