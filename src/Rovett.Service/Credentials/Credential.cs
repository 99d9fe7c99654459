using Rovett.Core.Ledgers;

namespace Rovett.Service.Credentials;

/// <summary>The checked contents of a user's credential.</summary>
/// <param name="Identity">Who, with which roles, as of when.</param>
/// <param name="Expires">When it ends.</param>
/// <param name="SigningKey">The name of the space's signing key that it holds by.</param>
/// <param name="KeyId">Which key that is (<see cref="VerifyingKey.Id"/>): a key set has several. Empty: not known.</param>
public sealed record Credential(Identity Identity, DateTimeOffset Expires, string SigningKey, string KeyId)
{
    /// <summary>Of the token; null for a ticket.</summary>
    internal TokenHash? TokenHash { get; init; }

    /// <summary>Whether it was read from exactly this token.</summary>
    public bool IsOf(string token) => TokenHash is { } hash && token.Length <= Tokens.MaxLength && Credentials.TokenHash.Of(token) == hash;
}
