using System.Text.Json;
using Rovett.Service.Http;

namespace Rovett.Service.Endpoints.Admin;

/// <summary>What tokens are verified with. One of <c>secret</c>, <c>publicKey</c>, <c>keySet</c> and <c>issuer</c>, or none
/// to have a secret created.</summary>
public sealed record SigningKeyRequest
{
    /// <summary>Which key it is.</summary>
    [Example("backend 2027")]
    public string? Name { get; set; }

    /// <summary>The key's id in token headers.</summary>
    [Text(1, 256, Is = "what the header of tokens calls it: 1 to 256 characters"), Example("2027-01")]
    public string? Kid { get; set; }

    /// <summary>A secret that tokens are signed with (HS256): 32 to 512 bytes of text.</summary>
    public string? Secret { get; set; }

    /// <summary>A public key, as a JWK (RFC 7517).</summary>
    public JsonElement? PublicKey { get; set; }

    /// <summary>A key set: its https address, or <c>file:</c> and the name of a file in the folder <c>keys</c> of the
    /// data folder.</summary>
    public string? KeySet { get; set; }

    /// <summary>An OpenID Connect issuer: its https address, exactly as in its tokens.</summary>
    public string? Issuer { get; set; }
}

/// <summary>Signing keys.</summary>
public sealed record SigningKeyAnswer
{
    /// <summary>Which key it is.</summary>
    [Example("backend 2027")]
    public required string Name { get; init; }

    /// <summary>Its kind.</summary>
    [OneOf("secret", "publicKey", "keySet", "issuer"), Example("secret")]
    public required string Kind { get; init; }

    /// <summary>The key's id in token headers.</summary>
    [Example("2027-01")]
    public string? Kid { get; init; }

    /// <summary>The public key, as a JWK.</summary>
    public JsonElement? PublicKey { get; init; }

    /// <summary>Where the key set is.</summary>
    public string? KeySet { get; init; }

    /// <summary>The issuer.</summary>
    public string? Issuer { get; init; }

    /// <summary>When it was added.</summary>
    public required StoredTime Created { get; init; }

    /// <summary>When the key set was last fetched.</summary>
    public StoredTime? Fetched { get; init; }

    /// <summary>How many keys it has.</summary>
    public int? Keys { get; init; }

    /// <summary>Why it could not be fetched.</summary>
    public string? Error { get; init; }

    /// <summary>The secret that was created; shown this once.</summary>
    [Example("0pQ7mXv2Jr8sYkB4nTz6LdWcHe1GfUaR")]
    public string? Secret { get; init; }
}

/// <summary>The signing keys of a space.</summary>
public sealed record SigningKeyList
{
    /// <summary>The keys.</summary>
    public required IReadOnlyList<SigningKeyAnswer> SigningKeys { get; init; }
}

/// <summary>The key removed, and the sessions that ended with it.</summary>
public sealed record RemovedAnswer
{
    /// <summary>The name of what was removed.</summary>
    [Example("backend 2026")]
    public required string Removed { get; init; }

    /// <summary>Sessions that ended.</summary>
    [Example(3)]
    public required int SessionsEnded { get; init; }
}
