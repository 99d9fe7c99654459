using Rovett.Core.Addresses;
using Rovett.Core.Policies;

namespace Rovett.Core.Ledgers;

/// <summary>The contents of a credential.</summary>
/// <param name="User">The id.</param>
/// <param name="Roles">The roles it names; null when it does not speak of roles, which then stay as they are.</param>
/// <param name="IssuedAtMicros">Its <c>iat</c>.</param>
/// <param name="Claims">Its claims that policies look at (<see cref="ClaimSet"/>).</param>
public sealed record Identity(UserId User, IReadOnlyList<string>? Roles, long IssuedAtMicros, string Claims = "");
