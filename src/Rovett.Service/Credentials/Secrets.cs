using System.Buffers.Text;
using System.Security.Cryptography;
using System.Text;

namespace Rovett.Service.Credentials;

/// <summary>Makes and hashes secrets. All have 256 bits of chance, so that one round of SHA-256 hides them.</summary>
public static class Secrets
{
    /// <summary>The prefix of API keys.</summary>
    public const string KeyPrefix = "rovett_key_";
    /// <summary>The prefix of connect tickets.</summary>
    public const string TicketPrefix = "rovett_ticket_";

    /// <summary>A new secret with a prefix that tells people, and secret scanners, what it is.</summary>
    public static string New(string prefix) => prefix + Base64Url.EncodeToString(RandomNumberGenerator.GetBytes(32));

    /// <summary>An id: 128 bits of chance.</summary>
    public static string NewId()
    {
        Span<byte> chance = stackalloc byte[16];
        Chance.Fill(chance);
        return Base64Url.EncodeToString(chance);
    }

    /// <summary>The form in which a secret is stored.</summary>
    public static byte[] Hash(string secret) => SHA256.HashData(Encoding.UTF8.GetBytes(secret));
}
