using System.Buffers.Text;
using System.Security.Cryptography;
using System.Text;
using System.Text.Json;
using Microsoft.IdentityModel.JsonWebTokens;
using Microsoft.IdentityModel.Tokens;
using Org.BouncyCastle.Crypto.Parameters;
using Org.BouncyCastle.Crypto.Signers;

namespace Rovett.Service.Credentials;

/// <summary>A key that tokens are verified with. It is of exactly one algorithm, whatever a token says of itself.</summary>
public sealed class VerifyingKey
{
    const int LeastRsaBits = 2048, MostRsaBits = 8192;

    readonly TokenValidationParameters? parameters;
    readonly Ed25519PublicKeyParameters? edwards;

    VerifyingKey(string name, string? kid, string algorithm, SecurityKey? key, Ed25519PublicKeyParameters? edwards, string material)
    {
        (Name, Kid, Algorithm, this.edwards) = (name, kid, algorithm, edwards);
        Id = Base64Url.EncodeToString(SHA256.HashData(Encoding.UTF8.GetBytes($"{algorithm}\n{kid}\n{material}")).AsSpan(0, 16));
        if (key is null) return;
        parameters = new TokenValidationParameters
        {
            IssuerSigningKey = key,
            ValidAlgorithms = [algorithm],
            ValidateIssuer = false,
            ValidateAudience = false,
            // All of these are looked at by Tokens, with a clock that tests can set and answers that tell them apart.
            ValidateLifetime = false,
            RequireExpirationTime = false,
        };
    }

    /// <summary>The name of the space's signing key that it is, or came from.</summary>
    public string Name { get; }
    /// <summary>The key's id in token headers; null: none.</summary>
    public string? Kid { get; }
    /// <summary>Tells it from every other key: of its algorithm, its name in headers and what it consists of.</summary>
    public string Id { get; }
    /// <summary>Its algorithm.</summary>
    public string Algorithm { get; }
    /// <summary>The issuer that a token must name; null: any.</summary>
    public string? Issuer { get; init; }

    /// <summary>A secret shared with the backend.</summary>
    public static VerifyingKey OfSecret(string name, string? kid, byte[] secret) =>
        new(name, kid, "HS256", new SymmetricSecurityKey(secret), null, Convert.ToHexString(SHA256.HashData(secret)));

    /// <summary>Reads a JWK (RFC 7517, RFC 8037).</summary>
    /// <param name="jwk">The object.</param>
    /// <param name="name">The name of the signing key it came from.</param>
    /// <param name="kid">What a token's header calls it; null: as the JWK says.</param>
    /// <param name="issuer">The issuer that a token must name, or null.</param>
    /// <param name="wrong">Why it can't be used.</param>
    public static VerifyingKey? OfJwk(JsonElement jwk, string name, string? kid, string? issuer, out string wrong)
    {
        wrong = "must be a JWK: an object with kty";
        if (jwk.ValueKind != JsonValueKind.Object || Text(jwk, "kty") is not { } type) return null;
        kid ??= Text(jwk, "kid");
        if (Text(jwk, "use") is { } use && use != "sig")
        {
            wrong = "is not for signatures: its use is not sig";
            return null;
        }
        try
        {
            (string Algorithm, SecurityKey? Key, Ed25519PublicKeyParameters? Edwards) made = type switch
            {
                "RSA" => ("RS256", Rsa(jwk), null),
                "EC" when Text(jwk, "crv") == "P-256" =>
                    ("ES256", new ECDsaSecurityKey(
                    ECDsa.Create(new ECParameters
                    { Curve = ECCurve.NamedCurves.nistP256, Q = new ECPoint { X = Bytes(jwk, "x"), Y = Bytes(jwk, "y") } })), null),
                "OKP" when Text(jwk, "crv") == "Ed25519" => ("EdDSA", null, new Ed25519PublicKeyParameters(Bytes(jwk, "x"))),
                _ => throw new FormatException("must be an RSA key, an EC key on P-256, or an OKP key on Ed25519"),
            };
            if (Text(jwk, "alg") is { } said && said != made.Algorithm)
            {
                throw new FormatException($"is for another algorithm: its alg must be {made.Algorithm}, or left out");
            }
            return new VerifyingKey(name, kid, made.Algorithm, made.Key, made.Edwards,
                string.Join('\n', new[] { "n", "e", "x", "y" }.Select(m => Text(jwk, m))))
            { Issuer = issuer };
        }
        catch (Exception error) when (error is FormatException or CryptographicException or ArgumentException)
        {
            wrong = error is FormatException ? error.Message : "is not a valid public key";
            return null;
        }
    }

    static RsaSecurityKey Rsa(JsonElement jwk)
    {
        var rsa = RSA.Create(new RSAParameters { Modulus = Bytes(jwk, "n"), Exponent = Bytes(jwk, "e") });
        if (rsa.KeySize is < LeastRsaBits or > MostRsaBits)
        {
            throw new FormatException($"has {rsa.KeySize} bits; an RSA key needs {LeastRsaBits} to {MostRsaBits}");
        }
        return new RsaSecurityKey(rsa);
    }

    static string? Text(JsonElement jwk, string member) =>
        jwk.TryGetProperty(member, out var value) && JsonText.TryString(value, out var text) ? text : null;

    static byte[] Bytes(JsonElement jwk, string member) =>
        Base64UrlEncoder.DecodeBytes(Text(jwk, member) ?? throw new FormatException($"lacks '{member}'"));

    /// <summary>Whether it signed a token.</summary>
    public async ValueTask<bool> Signed(JsonWebTokenHandler handler, JsonWebToken jwt)
    {
        if (edwards is not null)
        {
            var signature = Base64UrlEncoder.DecodeBytes(jwt.EncodedSignature);
            if (signature.Length != Ed25519PrivateKeyParameters.SignatureSize) return false;
            var token = jwt.EncodedToken;
            int end = token.LastIndexOf('.');
            var verifier = new Ed25519Signer();
            verifier.Init(false, edwards);
            verifier.BlockUpdate(Encoding.ASCII.GetBytes(token, 0, end), 0, end);
            return verifier.VerifySignature(signature);
        }
        return (await handler.ValidateTokenAsync(jwt, parameters)).IsValid;
    }
}
