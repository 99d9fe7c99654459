using System.Runtime.InteropServices;
using System.Security.Cryptography;
using System.Text;

namespace Rovett.Service.Credentials;

/// <summary>SHA-256 of a token.</summary>
readonly record struct TokenHash(long A, long B, long C, long D)
{
    const int MostOnStack = 1024;

    public static TokenHash Of(string token)
    {
        Span<byte> hash = stackalloc byte[32], text = stackalloc byte[MostOnStack];
        SHA256.HashData(Encoding.UTF8.TryGetBytes(token, text, out int length) ? text[..length] : Encoding.UTF8.GetBytes(token), hash);
        var parts = MemoryMarshal.Cast<byte, long>(hash);
        return new TokenHash(parts[0], parts[1], parts[2], parts[3]);
    }
}
