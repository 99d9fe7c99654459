using System.Text.Json;
using Rovett.Core.Addresses;
using Rovett.Core.Ledgers;
using Rovett.Core.Policies;
using Rovett.Service.Spaces;

namespace Rovett.Service.Credentials;

/// <summary>Checks users' tokens: JWTs (RFC 7519), signed with one of the space's keys, with a user, <c>iat</c>,
/// <c>exp</c> and roles.</summary>
public sealed class Tokens(SpaceDirectory spaces, SigningKeys keys, StandIns standIns, TimeProvider clock)
{
    /// <summary>The most characters a token may have.</summary>
    public const int MaxLength = 8192;
    /// <summary>The most roles a token may name.</summary>
    public const int MaxRoles = 64;
    const int MostOtherSpaces = 64;

    /// <summary>Reads a token. One that was verified before is known by its hash until it ends, or a key or setting of
    /// the space changes.</summary>
    /// <exception cref="ProblemException">401 or 403, telling apart malformed, badly signed, expired, incomplete and
    /// another space's.</exception>
    public async ValueTask<Credential> Check(string token, SpaceRuntime space)
    {
        if (token.StartsWith(Secrets.KeyPrefix, StringComparison.Ordinal))
            throw Refused(401, "api-key-for-token", "API key given where a user token is required",
                "This path is for users, and the request has an API key.",
                "Use a token for the user; create one with rovett token --user <id>.");
        if (token.StartsWith(StandIns.Prefix, StringComparison.Ordinal)) return standIns.Check(token, space.Name);
        if (token.Length > MaxLength) throw Malformed($"It is {token.Length} characters long; the limit is {MaxLength}.");
        var verified = keys.Verified(space.Name); // before anything is looked at, so that what changes meanwhile is not overlooked
        var settings = space.Settings;
        var hash = TokenHash.Of(token);
        if (verified.TryGet(hash, out var known) && await keys.Holds(space.Name, known.SigningKey, known.KeyId))
        {
            CheckEnd(known.Expires, settings);
            return known;
        }
        if (!SignedToken.TryRead(token, out var signed)) throw Malformed("What was shown is not a signed JWT.");
        var (algorithm, kid) = Header(signed);
        if (!settings.Algorithms.Contains(algorithm))
            throw Refused(401, "token-algorithm", "Token algorithm not accepted",
                $"The token uses '{Shorten(algorithm)}'; this space accepts {string.Join(", ", settings.Algorithms)}.",
                "Sign the token with one of these, and a key that this space has.");
        var key = await SignedBy(signed, space.Name, algorithm, kid) ?? throw await Unsigned(signed, space, algorithm, kid);
        var credential = Claims(signed, space, settings, key) with { TokenHash = hash };
        verified.Add(hash, credential);
        return credential;
    }

    /// <summary>Whether the key that a credential holds by is still known.</summary>
    public bool StillHolds(SpaceRuntime space, Credential credential) => StandIns.Is(credential)
        ? standIns.Holds(credential)
        : keys.Has(space.Name, credential.SigningKey, credential.KeyId);

    static (string Algorithm, string? Kid) Header(SignedToken token)
    {
        try
        {
            using var header = token.ReadHeader();
            var root = header.RootElement;
            if (root.ValueKind != JsonValueKind.Object || !root.TryGetProperty("alg", out var alg)
                || !JsonText.TryString(alg, out var algorithm))
            {
                throw Malformed("Its header names no algorithm.");
            }
            if (root.TryGetProperty("crit", out _))
            {
                throw Refused(401, "token-critical", "Critical header not supported",
                    "Its header has crit (RFC 7515, section 4.1.11), and no critical extension is supported.",
                    "Issue the token without crit.");
            }
            string? kid = null;
            if (root.TryGetProperty("kid", out var named) && (!JsonText.TryString(named, out kid) || kid.Length > 256))
            {
                throw Malformed("The kid of its header is not a text of at most 256 characters.");
            }
            return (algorithm, kid);
        }
        catch (Exception error) when (error is JsonException or InvalidOperationException)
        {
            throw Malformed("Its header is not JSON that names each member once.");
        }
    }

    async ValueTask<VerifyingKey?> SignedBy(SignedToken token, string space, string algorithm, string? kid)
    {
        await foreach (var key in keys.Candidates(space, algorithm, kid))
        {
            if (key.Signed(token)) return key;
        }
        return null;
    }

    async ValueTask<ProblemException> Unsigned(SignedToken token, SpaceRuntime space, string algorithm, string? kid)
    {
        // Only secrets of this service: what is fetched from elsewhere may well be shared by spaces, and is told apart by audience.
        foreach (var other in algorithm == "HS256" ? spaces.All.Where(s => s != space).Take(MostOtherSpaces) : [])
        {
            if (await SignedBy(token, other.Name, algorithm, kid) is not null)
                return Refused(403, "token-of-another-space", "Token of another space",
                    $"It was not signed for the space '{space.Name}'.",
                    "Sign it with a key of this space, or use the path of the token's space.");
        }
        return Refused(401, "token-signature", "Token signature invalid", $"It was not signed with a {algorithm} key of " +
            $"this space{(kid is null ? "" : $" with kid '{Shorten(kid)}'")}, or was changed.",
            "Sign it with the secret shown when the space was made, or add the key: POST /v1/signing-keys.");
    }

    Credential Claims(SignedToken token, SpaceRuntime space, SpaceSettings settings, VerifyingKey key)
    {
        JsonDocument payload;
        try
        {
            payload = token.ReadClaims();
        }
        catch (Exception error) when (error is JsonException or InvalidOperationException)
        {
            throw Malformed("Its claims are not JSON that names each member once.");
        }
        using var _ = payload;
        var claims = payload.RootElement;
        if (claims.ValueKind != JsonValueKind.Object) throw Malformed("Its claims are not a JSON object.");
        if (Find(claims, settings.UserClaim) is not { } sub || !JsonText.TryString(sub, out var name)
            || Names.Check(name, false, out var user) is not null)
            throw Incomplete(settings.UserClaim, "must name the user: 1 to 128 characters");
        if (Seconds(claims, "exp") is not { } exp) throw Incomplete("exp", "must say when the token ends, in seconds since 1970");
        if (Seconds(claims, "iat") is not { } iat) throw Incomplete("iat", "must say when the token was made, in seconds since 1970");
        var now = clock.GetUtcNow();
        var expires = DateTimeOffset.UnixEpoch.AddSeconds(exp);
        CheckEnd(expires, settings);
        double? nbf = Seconds(claims, "nbf");
        if (nbf is null && claims.TryGetProperty("nbf", out var _))
            throw Incomplete("nbf", "must be the time from which the token is valid, in seconds since 1970, or be left out");
        if (DateTimeOffset.UnixEpoch.AddSeconds(Math.Max(iat, nbf ?? 0)) > now + settings.ClockSkew)
            throw Refused(401, "token-not-yet", "Token not valid yet", "Its iat or nbf is ahead of the service's clock.",
                "Synchronise the clocks of the backend and the service (NTP).");
        if (exp - iat > settings.MaxTokenLife.TotalSeconds)
            throw Refused(401, "token-life", "Token lifetime too long",
                $"Its lifetime (exp minus iat) is {exp - iat:0} s; the limit is {settings.MaxTokenLife.TotalSeconds:0} s.",
                "Issue shorter tokens, or raise the space's setting tokens.maxLifeSeconds.");
        if (key.Issuer is { } issuer
            && !(claims.TryGetProperty("iss", out var iss) && iss.ValueKind == JsonValueKind.String && iss.ValueEquals(issuer)))
            throw Refused(401, "token-issuer", "Wrong issuer",
                $"The key '{key.Name}' belongs to the issuer {issuer}; the token's iss is different.", "Use a token from that issuer.");
        if (settings.Audiences.Count > 0 && !(claims.TryGetProperty("aud", out var aud) && IsAmong(aud, settings.Audiences)))
            throw Refused(401, "token-audience", "Wrong audience",
                $"Its aud contains none of {string.Join(", ", settings.Audiences)}.", "Ask for a token with this space's audience.");
        return new Credential(
            new Identity(new UserId(user), Roles(claims, settings.RolesClaim), (long)Math.Round(iat * 1_000_000),
            ForPolicies(claims, space.ClaimPaths)), expires, key.Name, key.Id);
    }

    void CheckEnd(DateTimeOffset expires, SpaceSettings settings)
    {
        var now = clock.GetUtcNow();
        if (now - settings.ClockSkew >= expires)
        {
            throw Refused(401, "token-expired", "Token expired",
                $"It expired at {expires:yyyy-MM-dd'T'HH:mm:ss'Z'}; it is {now:yyyy-MM-dd'T'HH:mm:ss'Z'}.",
                "Get a new token from your backend.");
        }
    }

    static bool IsAmong(JsonElement aud, IReadOnlyList<string> audiences) => aud.ValueKind == JsonValueKind.Array
        ? aud.EnumerateArray().Any(a => JsonText.TryString(a, out var text) && audiences.Contains(text))
        : JsonText.TryString(aud, out var one) && audiences.Contains(one);

    /// <summary>A claim by its name, or by a JSON Pointer (RFC 6901).</summary>
    static JsonElement? Find(JsonElement claims, string path)
    {
        if (!path.StartsWith('/')) return claims.TryGetProperty(path, out var found) ? found : null;
        var at = claims;
        foreach (var part in path[1..].Split('/'))
        {
            if (at.ValueKind != JsonValueKind.Object
                || !at.TryGetProperty(part.Replace("~1", "/", StringComparison.Ordinal).Replace("~0", "~", StringComparison.Ordinal),
                out at))
            {
                return null;
            }
        }
        return at;
    }

    /// <summary>The roles a token names; null when it does not speak of roles.</summary>
    static string[]? Roles(JsonElement claims, string claim)
    {
        if (Find(claims, claim) is not { } named) return null;
        if (named.ValueKind != JsonValueKind.Array) throw Incomplete(claim, "must be an array of role names");
        if (named.GetArrayLength() > MaxRoles) throw Incomplete(claim, $"may name at most {MaxRoles} roles");
        var roles = new List<string>();
        foreach (var item in named.EnumerateArray())
        {
            if (!JsonText.TryString(item, out var text)) throw Incomplete(claim, "must be an array of role names");
            if (Names.Check(text, false, out var role) is { } bad) throw Incomplete(claim, $"contains a role whose name {bad}");
            if (!roles.Contains(role)) roles.Add(role);
        }
        return [.. roles];
    }

    /// <summary>What the token says that policies look at; a claim that is no text, number or truth, nor an array of
    /// such, says nothing.</summary>
    static string ForPolicies(JsonElement claims, IReadOnlyList<string> paths)
    {
        if (paths.Count == 0) return "";
        var found = new List<KeyValuePair<string, IReadOnlyList<string>>>(paths.Count);
        foreach (var path in paths)
        {
            var values = new List<string>();
            if (Find(claims, path) is { } claim)
            {
                foreach (var item in claim.ValueKind == JsonValueKind.Array
                    ? [.. claim.EnumerateArray().Take(ClaimSet.MaxValues)]
                    : new[] { claim })
                {
                    if (item.ValueKind is JsonValueKind.Number or JsonValueKind.True or JsonValueKind.False) values.Add(item.GetRawText());
                    else if (JsonText.TryString(item, out var text) && text.Length <= 256)
                    {
                        values.Add(text.IsNormalized() ? text : text.Normalize());
                    }
                }
            }
            found.Add(KeyValuePair.Create(path, (IReadOnlyList<string>)values));
        }
        return ClaimSet.Write(found);
    }

    static double? Seconds(JsonElement claims, string claim) =>
        // the year 9999, and no instant that time can't be added to
        claims.TryGetProperty(claim, out var value) && value.ValueKind == JsonValueKind.Number && value.TryGetDouble(out double seconds)
        && seconds is > 0 and < 253_402_300_000 ? seconds : null;

    static ProblemException Incomplete(string claim, string what) =>
        new Problem(401, "token-claims", "Claim missing or invalid", $"{claim}: {what}.", "Add the claim where the token is issued.")
        { Errors = [new FieldError(claim, what)] }.ToException();

    static ProblemException Malformed(string detail) =>
        Refused(401, "token-malformed", "Malformed token", detail,
        "Send 'Authorization: Bearer <token>' with a JWT: three parts joined by dots.");

    static ProblemException Refused(int status, string slug, string title, string detail, string fix) =>
        new Problem(status, slug, title, detail, fix).ToException();

    static string Shorten(string text) => text.Length <= 20 ? text : text[..20] + "…";
}
