using System.Net.Security;
using System.Security.Cryptography;
using System.Security.Cryptography.X509Certificates;

namespace Rovett.Service.Tls;

/// <summary>The service's own certificate, out of two PEM files. Renewed ones are taken up within a minute, without a restart; one
/// that can't be read leaves the one before in use.</summary>
public sealed class Certificate
{
    static readonly TimeSpan LookEvery = TimeSpan.FromSeconds(30);

    readonly string file, keyFile;
    readonly TimeProvider clock;
    readonly ILogger log;
    readonly Lock gate = new();
    SslStreamCertificateContext context;
    DateTime written;
    DateTimeOffset lookedAt;

    /// <summary>Reads the files.</summary>
    /// <param name="file">The certificate, and after it what it was signed with.</param>
    /// <param name="keyFile">Its private key.</param>
    /// <param name="clock">The clock.</param>
    /// <param name="log">Where it is told that a renewed one can't be read.</param>
    /// <exception cref="IOException">A file can't be read.</exception>
    /// <exception cref="CryptographicException">They hold no certificate with its key.</exception>
    public Certificate(string file, string keyFile, TimeProvider clock, ILogger<Certificate> log)
    {
        (this.file, this.keyFile, this.clock, this.log) = (file, keyFile, clock, log);
        lookedAt = clock.GetUtcNow();
        written = Written();
        context = Read(file, keyFile);
    }

    /// <summary>The certificate to show now.</summary>
    public SslStreamCertificateContext Present
    {
        get
        {
            lock (gate)
            {
                if ((clock.GetUtcNow() - lookedAt).Duration() < LookEvery) return context;
                lookedAt = clock.GetUtcNow();
                try
                {
                    if (Written() is var now && now != written)
                    {
                        context = Read(file, keyFile);
                        written = now;
                        log.LogInformation("The certificate was renewed: {Subject}, until {Until:u}", context.TargetCertificate.Subject,
                            context.TargetCertificate.NotAfter);
                    }
                }
                catch (Exception error) when (error is IOException or UnauthorizedAccessException or CryptographicException)
                {
                    log.LogError("The renewed certificate can't be read ({Why}); the one before stays in use until {Until:u}",
                        error.Message, context.TargetCertificate.NotAfter);
                }
                return context;
            }
        }
    }

    DateTime Written() => new[] { File.GetLastWriteTimeUtc(file), File.GetLastWriteTimeUtc(keyFile) }.Max();

    /// <summary>Reads a certificate with its key, and what it was signed with.</summary>
    /// <exception cref="IOException">A file can't be read.</exception>
    /// <exception cref="CryptographicException">They hold no certificate with its key.</exception>
    public static SslStreamCertificateContext Read(string file, string keyFile)
    {
        var chain = new X509Certificate2Collection();
        chain.ImportFromPemFile(file);
        return SslStreamCertificateContext.Create(X509Certificate2.CreateFromPemFile(file, keyFile), chain, offline: true);
    }
}
