using System.Buffers;
using System.Buffers.Text;
using System.Diagnostics.CodeAnalysis;
using System.Text;
using System.Text.Json;

namespace Rovett.Service.Credentials;

/// <summary>A token taken apart: a JWS in its compact form (RFC 7515, section 7.1), whose signature is not checked yet.</summary>
sealed class SignedToken
{
    static readonly SearchValues<char> base64Url =
        SearchValues.Create("ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-_");
    static readonly JsonDocumentOptions strict = new() { AllowDuplicateProperties = false, MaxDepth = 32 };

    readonly byte[] text;
    readonly int signed;
    readonly byte[] header, payload;

    SignedToken(byte[] text, int signed, byte[] header, byte[] payload, byte[] signature) =>
        (this.text, this.signed, this.header, this.payload, Signature) = (text, signed, header, payload, signature);

    /// <summary>The bytes that the signature is of.</summary>
    public ReadOnlySpan<byte> Signed => text.AsSpan(0, signed);

    /// <summary>The signature; empty when it has none.</summary>
    public byte[] Signature { get; }

    /// <summary>Takes a token apart; false when it is not three parts in base64url joined by dots.</summary>
    public static bool TryRead(string token, [NotNullWhen(true)] out SignedToken? read)
    {
        read = null;
        int first = token.IndexOf('.', StringComparison.Ordinal), last = token.LastIndexOf('.');
        if (first <= 0 || last <= first + 1) return false;
        if (Decode(token.AsSpan(0, first)) is not { } header || Decode(token.AsSpan(first + 1, last - first - 1)) is not { } payload
            || Decode(token.AsSpan(last + 1)) is not { } signature)
        {
            return false;
        }
        read = new SignedToken(Encoding.ASCII.GetBytes(token, 0, last), last, header, payload, signature);
        return true;
    }

    /// <summary>Its header.</summary>
    /// <exception cref="JsonException">It is not JSON, or names a member twice.</exception>
    public JsonDocument ReadHeader() => JsonDocument.Parse(header, strict);

    /// <summary>Its claims.</summary>
    /// <exception cref="JsonException">They are not JSON, or name a member twice.</exception>
    public JsonDocument ReadClaims() => JsonDocument.Parse(payload, strict);

    // The framework's decoder lets white space and padding pass, which a token must not have.
    static byte[]? Decode(ReadOnlySpan<char> part)
    {
        if (part.ContainsAnyExcept(base64Url)) return null;
        var bytes = new byte[Base64Url.GetMaxDecodedLength(part.Length)];
        var done = Base64Url.DecodeFromChars(part, bytes, out _, out int length);
        return done == OperationStatus.Done && length == bytes.Length ? bytes : null;
    }
}
