using System.Collections.Concurrent;
using System.Diagnostics;
using System.Net;
using System.Net.Security;
using System.Security.Cryptography;
using System.Security.Cryptography.X509Certificates;
using Rovett.Testing;
using Rovett.Testing.Servers;

namespace Rovett.EndToEnd;

/// <summary>nginx, HAProxy or Caddy from Debian's packages in front of a service: as it is shipped, or as it should not be.</summary>
sealed class Proxy : IAsyncDisposable
{
    /// <summary>What a location of nginx needs for streams.</summary>
    public const string Simple = "proxy_http_version 1.1; proxy_set_header Connection \"\"; proxy_set_header Host $http_host;";

    /// <summary>What it needs for WebSockets too.</summary>
    public const string Upgrading = "proxy_http_version 1.1; proxy_set_header Upgrade $http_upgrade; proxy_set_header Connection " +
        "upgrade; " +
        "proxy_set_header Host $http_host;";

    readonly string folder = Directory.CreateTempSubdirectory("rovett-proxy-").FullName;
    readonly int port = FreePort.Next(), service;
    readonly SocketsHttpHandler handler = new()
    {
        UseProxy = false,
        AllowAutoRedirect = false,
        SslOptions = new SslClientAuthenticationOptions { RemoteCertificateValidationCallback = (_, _, _, _) => true }
    };
    Process? process;

    Proxy(int service) => this.service = service;

    /// <summary>Where it is reached.</summary>
    public Uri Url { get; private set; } = null!;

    /// <summary>The certificate that it shows, as a file.</summary>
    public string Certificate => Path.Combine(folder, "certificate.pem");

    public async ValueTask DisposeAsync()
    {
        if (process is not null)
        {
            process.Kill(entireProcessTree: true);
            await process.WaitForExitAsync();
            process.Dispose();
        }
        handler.Dispose();
        Directory.Delete(folder, recursive: true);
    }

    /// <summary>A proxy with a configuration that is shipped, changed as its first line says.</summary>
    /// <param name="file">The configuration.</param>
    /// <param name="service">The service's port.</param>
    /// <param name="changed">Changes it further.</param>
    /// <param name="name">Whom the certificate is for.</param>
    /// <param name="until">When it ends.</param>
    public static async Task<Proxy> Shipped(string file, int service, Func<string, string>? changed = null, string name = "127.0.0.1",
        TimeSpan? until = null)
    {
        var made = new Proxy(service);
        await made.MakeCertificate(name, until ?? TimeSpan.FromDays(30));
        var text = await File.ReadAllTextAsync(Path.Combine(ServiceProcess.Root, "docs", "deploy", file));
        text = text.Replace("/etc/rovett", made.folder, StringComparison.Ordinal)
            .Replace("notify.example:443", $"127.0.0.1:{made.port}", StringComparison.Ordinal)
            .Replace("listen 443", $"listen 127.0.0.1:{made.port}", StringComparison.Ordinal)
            .Replace("bind :443", $"bind 127.0.0.1:{made.port}", StringComparison.Ordinal)
            .Replace("127.0.0.1:7411", $"127.0.0.1:{service}", StringComparison.Ordinal)
            .Replace("maxconn 20000", "maxconn 500", StringComparison.Ordinal)
            .Replace("worker_connections 20000", "worker_connections 500", StringComparison.Ordinal);
        text = changed?.Invoke(text) ?? text;
        var config = Path.Combine(made.folder, file);
        await File.WriteAllTextAsync(config, file == "nginx.conf"
            ? made.NginxHead + text.Replace("http {", "http { " + made.NginxFolders, StringComparison.Ordinal)
            : text);
        return file switch
        {
            "nginx.conf" => await made.Run("https", "nginx", "-p", made.folder, "-c", config),
            "haproxy.cfg" => await made.Run("https", "haproxy", "-db", "-q", "-f", config),
            _ => await made.Run("https", "caddy", "run", "--adapter", "caddyfile", "--config", config),
        };
    }

    /// <summary>nginx with what stands in its location, without TLS.</summary>
    /// <param name="service">The service's port.</param>
    /// <param name="location">What stands in the location.</param>
    /// <param name="passes">Requests are passed on.</param>
    public static async Task<Proxy> Nginx(int service, string location, bool passes = true)
    {
        var made = new Proxy(service);
        var config = Path.Combine(made.folder, "nginx.conf");
        await File.WriteAllTextAsync(config, $$"""
            {{made.NginxHead}}
            events { worker_connections 256; }
            http {
              access_log off; {{made.NginxFolders}}
              server {
                listen 127.0.0.1:{{made.port}};
                location / { {{(passes ? $"proxy_pass http://127.0.0.1:{service}; " : "")}}{{location}} }
              }
            }
            """);
        return await made.Run("http", "nginx", "-p", made.folder, "-c", config);
    }

    async Task MakeCertificate(string name, TimeSpan until)
    {
        using var key = ECDsa.Create(ECCurve.NamedCurves.nistP256);
        var request = new CertificateRequest("CN=" + name, key, HashAlgorithmName.SHA256);
        var names = new SubjectAlternativeNameBuilder();
        if (IPAddress.TryParse(name, out var address)) names.AddIpAddress(address);
        else names.AddDnsName(name);
        request.CertificateExtensions.Add(names.Build());
        using var made = request.CreateSelfSigned(DateTimeOffset.UtcNow.AddDays(-40), DateTimeOffset.UtcNow + until);
        var (certificate, keyText) = (made.ExportCertificatePem() + "\n", key.ExportPkcs8PrivateKeyPem() + "\n");
        await File.WriteAllTextAsync(Certificate, certificate);
        await File.WriteAllTextAsync(Path.Combine(folder, "key.pem"), keyText);
        await File.WriteAllTextAsync(Path.Combine(folder, "certificate-and-key.pem"), certificate + keyText);
    }

    string NginxHead => $"daemon off; master_process off; pid {folder}/nginx.pid; error_log {folder}/error.log;\n";
    string NginxFolders => $"client_body_temp_path {folder}/body; proxy_temp_path {folder}/proxy; fastcgi_temp_path {folder}/f; " +
        $"uwsgi_temp_path {folder}/u; scgi_temp_path {folder}/s;";

    async Task<Proxy> Run(string scheme, string program, params string[] arguments)
    {
        var start = new ProcessStartInfo(File.Exists("/usr/sbin/" + program) ? "/usr/sbin/" + program : program, arguments)
        { RedirectStandardError = true, RedirectStandardOutput = true };
        foreach (var home in new[] { "HOME", "XDG_DATA_HOME", "XDG_CONFIG_HOME" }) start.Environment[home] = folder;
        process = Process.Start(start)!;
        var said = new ConcurrentQueue<string?>();
        process.ErrorDataReceived += (_, line) => said.Enqueue(line.Data);
        process.OutputDataReceived += (_, line) => said.Enqueue(line.Data);
        process.BeginErrorReadLine();
        process.BeginOutputReadLine();
        Url = new Uri($"{scheme}://127.0.0.1:{port}");
        using var http = new HttpClient(handler, disposeHandler: false);
        await Eventually.Holds(async () =>
        {
            try
            {
                using var answer = await http.GetAsync(new Uri(Url, "/healthz"));
                return "";
            }
            catch (HttpRequestException error)
            {
                return $"{error.Message} {string.Join('\n', said)}";
            }
        }, trouble => trouble.Length == 0, $"{program} answers for {service}");
        return this;
    }
}
