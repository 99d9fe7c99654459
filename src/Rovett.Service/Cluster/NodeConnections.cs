using System.Net;
using System.Net.Security;
using System.Security.Cryptography;

namespace Rovett.Service.Cluster;

/// <summary>Connections to other nodes, which are known by the hashes of their certificates: the database has each node's, and nobody
/// else's.</summary>
sealed class NodeConnections(Nodes nodes)
{
    static readonly TimeSpan ConnectWithin = TimeSpan.FromSeconds(1), IdleFor = TimeSpan.FromSeconds(30);

    /// <summary>What opens them.</summary>
    public SocketsHttpHandler Handler() => new()
    {
        UseProxy = false,
        AllowAutoRedirect = false,
        AutomaticDecompression = DecompressionMethods.None,
        UseCookies = false,
        ActivityHeadersPropagator = null,
        ConnectTimeout = ConnectWithin,
        // The one before may be a node that was restarted since.
        PooledConnectionIdleTimeout = IdleFor,
        SslOptions = new SslClientAuthenticationOptions
        {
            RemoteCertificateValidationCallback = (_, certificate, _, _) => certificate is not null
                && IsNode(certificate.GetCertHash(HashAlgorithmName.SHA256)),
        },
    };

    bool IsNode(byte[] hash) => nodes.Now is { } now
        && now.Nodes.Any(n => n.Certificate is { } known && CryptographicOperations.FixedTimeEquals(known, hash));
}
