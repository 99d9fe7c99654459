using System.Security.Cryptography;
using System.Text;

namespace Rovett.Service.Outbound;

/// <summary>Signs calls that go out, by the Standard Webhooks specification.</summary>
public static class OutboundSignature
{
    /// <summary>The signature of Standard Webhooks: HMAC-SHA-256 of id, timestamp and body, in base64.</summary>
    public static string Of(byte[] secret, string id, string timestamp, byte[] body) =>
        Convert.ToBase64String(HMACSHA256.HashData(secret, (byte[])[.. Encoding.UTF8.GetBytes($"{id}.{timestamp}."), .. body]));
}
