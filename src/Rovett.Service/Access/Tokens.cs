using System.Runtime.InteropServices;
using System.Security.Cryptography;
using System.Text.Json;
using Microsoft.IdentityModel.JsonWebTokens;
using Microsoft.IdentityModel.Tokens;
using Rovett.Core;
using Rovett.Core.Addresses;
using Rovett.Core.Ledger;

namespace Rovett.Service.Access;

/// <summary>What a user's credential says, checked.</summary>
public sealed record Credential(Identity Identity, DateTimeOffset Expires)
{
    /// <summary>SHA-256 of the token; null for a ticket.</summary>
    public byte[]? TokenHash { get; init; }

    /// <summary>Whether it was read from exactly this token.</summary>
    public bool IsOf(string token)
    {
        if (TokenHash is null || token.Length > Tokens.MaxLength) return false;
        Span<byte> hash = stackalloc byte[32];
        Hash(token, hash);
        return CryptographicOperations.FixedTimeEquals(hash, TokenHash);
    }

    /// <summary>SHA-256 of a token.</summary>
    internal static void Hash(string token, Span<byte> into) => SHA256.HashData(MemoryMarshal.AsBytes(token.AsSpan()), into);
}

/// <summary>Checks users' tokens: JWTs (RFC 7519) with <c>sub</c>, <c>iat</c>, <c>exp</c> and <c>roles</c>, signed with
/// HS256 by the space's secret.</summary>
public sealed class Tokens(SpaceDirectory spaces, TimeProvider clock)
{
    /// <summary>How far clocks may be apart.</summary>
    public static readonly TimeSpan Skew = TimeSpan.FromSeconds(30);
    /// <summary>The most characters a token may have.</summary>
    public const int MaxLength = 8192;
    /// <summary>The most roles a token may name.</summary>
    public const int MaxRoles = 64;

    readonly JsonWebTokenHandler handler = new() { MapInboundClaims = false, MaximumTokenSizeInBytes = MaxLength };

    /// <summary>Reads a token.</summary>
    /// <exception cref="ProblemException">401 or 403, telling apart malformed, badly signed, expired, incomplete and another space's.</exception>
    public async ValueTask<Credential> Check(string token, SpaceRuntime space)
    {
        if (token.StartsWith(Secrets.KeyPrefix, StringComparison.Ordinal))
            throw Refused(401, "api-key-for-token", "An API key is no user's token", "This path is for users, and an API key was shown.", "Show a token that names the user: rovett token --user <id> makes one.");
        if (token.Length > MaxLength || !handler.CanReadToken(token))
            throw Refused(401, "token-malformed", "The token can't be read", "What was shown is not a signed JWT.", "Send 'Authorization: Bearer <token>' with a token of three parts joined by dots.");
        JsonWebToken jwt;
        try
        {
            jwt = handler.ReadJsonWebToken(token);
        }
        catch (Exception error) when (error is ArgumentException or SecurityTokenException or FormatException)
        {
            throw Refused(401, "token-malformed", "The token can't be read", "A part of the token is not base64url or not JSON.", "Make the token anew with a JWT library.");
        }
        if (jwt.Alg != "HS256") throw Refused(401, "token-algorithm", "The token's algorithm is not accepted", $"The token says '{Shorten(jwt.Alg)}'; this space accepts HS256.", "Sign the token with HS256 and this space's token-signing secret.");
        if (!await Signed(token, space.SigningSecret))
        {
            foreach (var other in spaces.All)
            {
                if (other != space && await Signed(token, other.SigningSecret))
                    throw Refused(403, "token-of-another-space", "The token is of another space", $"It was not signed for the space '{space.Name}'.", "Sign it with this space's secret, or use the path of the space it was made for.");
            }
            throw Refused(401, "token-signature", "The token's signature does not match", "It was not signed with this space's token-signing secret, or was changed.", "Sign it with the secret shown when the space was made.");
        }
        var hash = new byte[32];
        Credential.Hash(token, hash);
        return Claims(jwt) with { TokenHash = hash };
    }

    async ValueTask<bool> Signed(string token, byte[] secret)
    {
        var result = await handler.ValidateTokenAsync(token, new TokenValidationParameters
        {
            IssuerSigningKey = new SymmetricSecurityKey(secret),
            ValidAlgorithms = ["HS256"],
            ValidateIssuer = false,
            ValidateAudience = false,
            ValidateLifetime = false, // below, with a clock that tests can set and answers that say which time it was
            RequireExpirationTime = false,
        });
        return result.IsValid;
    }

    Credential Claims(JsonWebToken jwt)
    {
        // Read from the JSON itself: the library's own reading cuts the fractions of iat off, and takes a number for a text.
        using var payload = JsonDocument.Parse(Base64UrlEncoder.DecodeBytes(jwt.EncodedPayload));
        var claims = payload.RootElement;
        if (claims.ValueKind != JsonValueKind.Object || !claims.TryGetProperty("sub", out var sub) || !JsonText.TryString(sub, out var name) || Names.Check(name, false, out var user) is not null)
            throw Incomplete("sub", "must name the user: 1 to 128 characters");
        if (Seconds(claims, "exp") is not { } exp) throw Incomplete("exp", "must say when the token ends, in seconds since 1970");
        if (Seconds(claims, "iat") is not { } iat) throw Incomplete("iat", "must say when the token was made, in seconds since 1970");
        var now = clock.GetUtcNow();
        var expires = DateTimeOffset.UnixEpoch.AddSeconds(exp);
        if (now >= expires + Skew) throw Refused(401, "token-expired", "The token has expired", $"It ended at {expires:yyyy-MM-dd'T'HH:mm:ss'Z'}; it is {now:yyyy-MM-dd'T'HH:mm:ss'Z'}.", "Get a new token from your backend.");
        if (DateTimeOffset.UnixEpoch.AddSeconds(iat) > now + Skew) throw Refused(401, "token-not-yet", "The token is from the future", "Its iat lies after this service's time.", "Set the clocks of the backend and of this service by NTP.");
        return new Credential(new Identity(new UserId(user), Roles(claims), (long)Math.Round(iat * 1_000_000)), expires);
    }

    /// <summary>The roles a token names; null when it does not speak of roles.</summary>
    static List<string>? Roles(JsonElement claims)
    {
        if (!claims.TryGetProperty("roles", out var named)) return null;
        if (named.ValueKind != JsonValueKind.Array) throw Incomplete("roles", "must be an array of role names");
        if (named.GetArrayLength() > MaxRoles) throw Incomplete("roles", $"may name at most {MaxRoles} roles");
        var roles = new List<string>();
        foreach (var item in named.EnumerateArray())
        {
            if (!JsonText.TryString(item, out var text)) throw Incomplete("roles", "must be an array of role names");
            if (Names.Check(text, false, out var role) is { } bad) throw Incomplete("roles", $"holds a role whose name {bad}");
            if (!roles.Contains(role)) roles.Add(role);
        }
        return roles;
    }

    static double? Seconds(JsonElement claims, string claim) =>
        claims.TryGetProperty(claim, out var value) && value.ValueKind == JsonValueKind.Number && value.TryGetDouble(out double seconds) && seconds is > 0 and < 253_402_300_800 ? seconds : null;

    static ProblemException Incomplete(string claim, string what) =>
        new Problem(401, "token-claims", "The token lacks something", $"{claim}: {what}.", "Add the claim where the token is made.") { Errors = [new FieldError(claim, what)] }.Throw();

    static ProblemException Refused(int status, string slug, string title, string detail, string mend) => new Problem(status, slug, title, detail, mend).Throw();

    static string Shorten(string text) => text.Length <= 20 ? text : text[..20] + "…";
}
