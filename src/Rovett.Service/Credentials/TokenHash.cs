using System.Runtime.InteropServices;
using System.Security.Cryptography;

namespace Rovett.Service.Credentials;

/// <summary>SHA-256 of a token.</summary>
readonly record struct TokenHash(long A, long B, long C, long D)
{
    public static TokenHash Of(string token)
    {
        Span<byte> hash = stackalloc byte[32];
        SHA256.HashData(MemoryMarshal.AsBytes(token.AsSpan()), hash);
        var parts = MemoryMarshal.Cast<byte, long>(hash);
        return new TokenHash(parts[0], parts[1], parts[2], parts[3]);
    }
}
