using System.Net;
using System.Security.Cryptography;
using System.Security.Cryptography.X509Certificates;
using System.Text;

namespace Rovett.Service.Tls;

/// <summary>What this process is among the nodes: its address, one life's name, the secret that all share, and the certificate that it
/// shows the others. The certificate is its own, made at each start; the others know it by its hash in the database.</summary>
public sealed class NodeIdentity : IDisposable
{
    /// <summary>Bytes that the secret has at least.</summary>
    public const int LeastSecret = 32;

    /// <param name="url">Where the other nodes reach it.</param>
    /// <param name="secretFile">The file with the secret that all share.</param>
    public NodeIdentity(string url, string secretFile)
    {
        Url = new Uri(url);
        Secret = ReadSecret(secretFile);
        if (Url.Scheme == "https") Certificate = Make(Url);
    }

    /// <summary>Where the other nodes reach it.</summary>
    public Uri Url { get; }

    /// <summary>The address as it is stored and shown: <c>https://10.0.0.5:7412</c>.</summary>
    public string Name => Url.GetLeftPart(UriPartial.Authority);

    /// <summary>One life of this process.</summary>
    public Guid Incarnation { get; } = Guid.NewGuid();

    /// <summary>What the ids of its sessions end in.</summary>
    public string Tag => TagOf(Incarnation);

    /// <summary>What the ids of a node's sessions end in.</summary>
    public static string TagOf(Guid incarnation) => Convert.ToHexStringLower(incarnation.ToByteArray(bigEndian: true).AsSpan()[..4]);

    /// <summary>What nodes show each other.</summary>
    public string Secret { get; }

    /// <summary>What it shows to others; null: it talks without TLS.</summary>
    public X509Certificate2? Certificate { get; }

    /// <summary>Its hash (SHA-256).</summary>
    public byte[]? Fingerprint => Certificate?.GetCertHash(HashAlgorithmName.SHA256);

    /// <summary>Whether a request shows the secret.</summary>
    public bool IsSecret(string? shown) => shown is not null
        && CryptographicOperations.FixedTimeEquals(Encoding.UTF8.GetBytes(shown), Encoding.UTF8.GetBytes(Secret));

    /// <summary>What is wrong with a file that is to hold the secret; null: it can be used.</summary>
    public static string? Mistake(string file)
    {
        try
        {
            return Encoding.UTF8.GetByteCount(ReadSecret(file)) >= LeastSecret ? null
                : $"'{file}' holds a secret of fewer than {LeastSecret} bytes; make one with: openssl rand -hex 32";
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            return $"'{file}' can't be read: {error.Message}";
        }
    }

    static string ReadSecret(string file) => File.ReadAllText(file).Trim();

    /// <summary>What is wrong with a node's address; null: it can be used.</summary>
    public static string? UrlMistake(string url)
    {
        if (!Uri.TryCreate(url, UriKind.Absolute, out var parsed) || parsed.Scheme is not ("http" or "https")
            || parsed.PathAndQuery != "/" || parsed.UserInfo.Length > 0)
        {
            return $"'{url}' is not a node's address; give it as https://10.0.0.5:7412";
        }
        return parsed.Scheme == "https" || parsed.IsLoopback ? null
            : $"'{url}' would have nodes talk to each other in the clear; write https://, for which nothing else is needed";
    }

    /// <summary>The address to listen on: that of the URL where it is a number, otherwise every one of this machine.</summary>
    public IPAddress Listen => IPAddress.TryParse(Url.Host.Trim('[', ']'), out var address) ? address
        : Url.IsLoopback ? IPAddress.Loopback : IPAddress.Any;

    static X509Certificate2 Make(Uri url)
    {
        using var key = ECDsa.Create(ECCurve.NamedCurves.nistP256);
        var request = new CertificateRequest($"CN={url.Host}", key, HashAlgorithmName.SHA256);
        // Known by its hash for as long as the process lives: its dates say nothing.
        var now = DateTimeOffset.UtcNow;
        return request.CreateSelfSigned(now.AddYears(-1), now.AddYears(20));
    }

    /// <inheritdoc/>
    public void Dispose() => Certificate?.Dispose();
}
