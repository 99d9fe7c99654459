using System.Buffers.Text;
using System.Security.Cryptography;
using System.Text;
using System.Text.Json;
using Org.BouncyCastle.Crypto.Parameters;
using Org.BouncyCastle.Crypto.Signers;

namespace Rovett.Service.Credentials;

/// <summary>A key that tokens are verified with. It is of exactly one algorithm, whatever a token says of itself.</summary>
public sealed class VerifyingKey
{
    const int LeastRsaBits = 2048, MostRsaBits = 8192, CurveSignatureBytes = 64;

    readonly Func<SignedToken, bool> signed;

    VerifyingKey(string name, string? kid, string algorithm, Func<SignedToken, bool> signed, string material)
    {
        (Name, Kid, Algorithm, this.signed) = (name, kid, algorithm, signed);
        Id = Base64Url.EncodeToString(SHA256.HashData(Encoding.UTF8.GetBytes($"{algorithm}\n{kid}\n{material}")).AsSpan(0, 16));
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
        new(name, kid, "HS256", token => IsMac(secret, token), Convert.ToHexString(SHA256.HashData(secret)));

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
            (string Algorithm, Func<SignedToken, bool> Signed) made = type switch
            {
                "RSA" => ("RS256", ByRsa(jwk)),
                "EC" when Text(jwk, "crv") == "P-256" => ("ES256", ByCurve(jwk)),
                "OKP" when Text(jwk, "crv") == "Ed25519" => ("EdDSA", ByEdwardsCurve(jwk)),
                _ => throw new FormatException("must be an RSA key, an EC key on P-256, or an OKP key on Ed25519"),
            };
            if (Text(jwk, "alg") is { } said && said != made.Algorithm)
            {
                throw new FormatException($"is for another algorithm: its alg must be {made.Algorithm}, or left out");
            }
            return new VerifyingKey(name, kid, made.Algorithm, made.Signed,
                string.Join('\n', new[] { "n", "e", "x", "y" }.Select(m => Text(jwk, m))))
            { Issuer = issuer };
        }
        catch (Exception error) when (error is FormatException or CryptographicException or ArgumentException)
        {
            wrong = error is FormatException ? error.Message : "is not a valid public key";
            return null;
        }
    }

    // RFC 7518, section 3.2.
    static bool IsMac(byte[] secret, SignedToken token)
    {
        Span<byte> mac = stackalloc byte[HMACSHA256.HashSizeInBytes];
        HMACSHA256.HashData(secret, token.Signed, mac);
        return CryptographicOperations.FixedTimeEquals(mac, token.Signature);
    }

    static Func<SignedToken, bool> ByRsa(JsonElement jwk)
    {
        var rsa = RSA.Create(new RSAParameters { Modulus = Bytes(jwk, "n"), Exponent = Bytes(jwk, "e") });
        if (rsa.KeySize is < LeastRsaBits or > MostRsaBits)
        {
            throw new FormatException($"has {rsa.KeySize} bits; an RSA key needs {LeastRsaBits} to {MostRsaBits}");
        }
        return token => rsa.VerifyData(token.Signed, token.Signature, HashAlgorithmName.SHA256, RSASignaturePadding.Pkcs1);
    }

    static Func<SignedToken, bool> ByCurve(JsonElement jwk)
    {
        var key = ECDsa.Create(new ECParameters
        { Curve = ECCurve.NamedCurves.nistP256, Q = new ECPoint { X = Bytes(jwk, "x"), Y = Bytes(jwk, "y") } });
        // Two numbers of 32 bytes one after the other (RFC 7518, section 3.4).
        return token => token.Signature.Length == CurveSignatureBytes && key.VerifyData(token.Signed, token.Signature,
            HashAlgorithmName.SHA256, DSASignatureFormat.IeeeP1363FixedFieldConcatenation);
    }

    static Func<SignedToken, bool> ByEdwardsCurve(JsonElement jwk)
    {
        var key = new Ed25519PublicKeyParameters(Bytes(jwk, "x"));
        return token =>
        {
            if (token.Signature.Length != Ed25519PrivateKeyParameters.SignatureSize) return false;
            var verifier = new Ed25519Signer();
            verifier.Init(false, key);
            verifier.BlockUpdate(token.Signed);
            return verifier.VerifySignature(token.Signature);
        };
    }

    static string? Text(JsonElement jwk, string member) =>
        jwk.TryGetProperty(member, out var value) && JsonText.TryString(value, out var text) ? text : null;

    static byte[] Bytes(JsonElement jwk, string member) =>
        Base64Url.DecodeFromChars(Text(jwk, member) ?? throw new FormatException($"lacks '{member}'"));

    /// <summary>Whether it signed a token.</summary>
    internal bool Signed(SignedToken token) => signed(token);
}
