using System.Net;
using System.Net.Http.Headers;
using System.Net.Security;
using System.Net.Sockets;
using System.Security.Cryptography.X509Certificates;
using System.Text;
using System.Text.Json.Nodes;
using Microsoft.IdentityModel.JsonWebTokens;
using Rovett.Service.Diagnostics;

namespace Rovett.Cli.Doctor;

/// <summary>What an examination from outside is given.</summary>
/// <param name="Url">Where users reach the service: the proxy's address.</param>
/// <param name="Space">The space.</param>
/// <param name="Key">An API key; null: none.</param>
/// <param name="Token">A user's token; null: none.</param>
/// <param name="Origins">Where the pages are that connect.</param>
/// <param name="WaitsQuiet">Whether connections are watched for as long as they may be quiet.</param>
sealed record OutsideTarget(Uri Url, string Space, string? Key, string? Token, IReadOnlyList<string> Origins, bool WaitsQuiet);

/// <summary>Examines a service as its users reach it: over the proxy, with the origin that a browser sends, over each transport. Sends
/// passing notifications to the token's user, which are not stored.</summary>
sealed partial class Outside : IDisposable
{
    static readonly TimeSpan Patience = TimeSpan.FromSeconds(5), SlowRoundTrip = TimeSpan.FromMilliseconds(500),
        QuietMargin = TimeSpan.FromSeconds(4);

    readonly OutsideTarget target;
    readonly HttpClient http;
    readonly Dictionary<string, TimeSpan> roundTrips = [];
    X509Certificate2? certificate;
    SslPolicyErrors untrusted;
    Finding? clock;
    string? sessionOf; // the user whom the token is for
    string? page; // the first origin that may connect: sent as Origin with every connection that is tried
    int heartbeatSeconds = 20;

    /// <param name="target">What is examined.</param>
    public Outside(OutsideTarget target)
    {
        this.target = target;
        http = new HttpClient(new SocketsHttpHandler
        {
            UseProxy = false,
            AllowAutoRedirect = false,
            UseCookies = false,
            ConnectTimeout = Patience,
            AutomaticDecompression = DecompressionMethods.None,
            SslOptions = new SslClientAuthenticationOptions { RemoteCertificateValidationCallback = Look },
        })
        { Timeout = Timeout.InfiniteTimeSpan };
    }

    // Whatever is wrong with it, the rest is examined all the same.
    bool Look(object sender, X509Certificate? shown, X509Chain? chain, SslPolicyErrors errors)
    {
        if (shown is not null) certificate ??= X509CertificateLoader.LoadCertificate(shown.GetRawCertData());
        untrusted = errors;
        return true;
    }

    Uri At(string path) => new(target.Url.ToString().TrimEnd('/') + (target.Space == "main" ? ""
        : $"/s/{Uri.EscapeDataString(target.Space)}") + path);

    Uri Root(string path) => new(target.Url.ToString().TrimEnd('/') + path);

    /// <summary>Examines everything.</summary>
    public async IAsyncEnumerable<Finding> Examine()
    {
        var reached = await Reached();
        yield return reached;
        if (reached.Verdict == Verdict.Fault) yield break;
        var encryption = Encryption();
        foreach (var finding in encryption) yield return finding;
        yield return await Try("ready", Ready);
        if (clock is not null) yield return clock;
        foreach (var origin in target.Origins) yield return await Try("origin", () => Origin(origin));
        if (target.Origins.Count == 0)
        {
            yield return Finding.Skipped("origin", "No page was named: give --origin https://app.example, as the browser writes it.");
        }
        if (encryption.Any(f => f.Verdict == Verdict.Fault))
        {
            yield return Finding.Skipped("key", "Nothing secret is sent over a connection that is not trusted: nothing after this is " +
                "examined.");
            yield break;
        }
        yield return await Try("key", Key);
        if (target.Token is null)
        {
            yield return Finding.Skipped("token", "No user's token was given: set ROVETT_TOKEN_SECRET, or give --token. The transports " +
                "were not tried.");
            yield break;
        }
        var token = await Try("token", Token);
        yield return token;
        if (token.Verdict == Verdict.Fault) yield break;
        yield return await Try("body-size", BodySize);
        yield return await Try("websocket", WebSocket);
        yield return await Try("events", Events);
        yield return await Try("long-poll", LongPoll);
        yield return Latency();
        yield return await Try("quiet", Quiet);
        yield return await Try("user", Forget);
    }

    /// <summary>Examines one thing. That a request is not answered is found, too.</summary>
    static async Task<Finding> Try(string check, Func<Task<Finding>> examine)
    {
        try
        {
            return await examine();
        }
        catch (Exception error) when (error is HttpRequestException or IOException or OperationCanceledException)
        {
            var why = error is OperationCanceledException ? $"it was not answered within {Patience.TotalSeconds:0} s" : error.Message;
            return Finding.Fault(check, $"A request failed: {why}", "Look into the logs of the service and of the proxy at this time.");
        }
    }

    async Task<Finding> Reached()
    {
        try
        {
            using var answer = await Get(Root("/healthz"));
            if ((int)answer.StatusCode is >= 300 and < 400)
                return Finding.Fault("reachable", $"{target.Url} redirects to {answer.Headers.Location}: clients do not follow that.",
                    "Give clients, and this command, the address that it leads to.");
            var text = await answer.Content.ReadAsStringAsync();
            return answer.IsSuccessStatusCode && text.Trim() == "ok" ? Finding.Fine("reachable", $"{target.Url} answers.")
                : (int)answer.StatusCode is 502 or 503 or 504
                ? Finding.Fault("reachable", $"{target.Url} answers {(int)answer.StatusCode}: a proxy is there, and does not reach the " +
                    "service.", "Start the service, and check the address in the proxy's configuration.")
                : Finding.Fault("reachable", $"{target.Url} answers {(int)answer.StatusCode}, and not as Rovett does.",
                    "Check the address, and that the proxy passes all paths on (a prefix must be taken off).");
        }
        catch (Exception error) when (error is HttpRequestException or OperationCanceledException)
        {
            var why = error is OperationCanceledException ? $"it did not answer within {Patience.TotalSeconds:0} s"
                : (error.InnerException as SocketException)?.Message ?? error.Message;
            return Finding.Fault("reachable", $"{target.Url} can't be reached: {why}", "Check the name, the port, the firewall, and " +
                "that the service or its proxy runs.");
        }
    }

    List<Finding> Encryption()
    {
        if (target.Url.Scheme == "http")
        {
            return [target.Url.IsLoopback ? Finding.Skipped("tls", "On this machine, without TLS.")
                : Finding.Warning("tls", $"{target.Url} is not encrypted: tokens and notifications cross the network readable, and " +
                    "pages on https can't connect.", "Put TLS in front, or give the service a certificate.")];
        }
        if (certificate is null) return [];
        return [Inside.Certificate("certificate", certificate, DateTimeOffset.UtcNow),
            untrusted.HasFlag(SslPolicyErrors.RemoteCertificateNameMismatch) ? Finding.Fault("tls",
                $"The certificate is not for {target.Url.Host}, but for " +
                $"{certificate.GetNameInfo(X509NameType.DnsName, false)}.", "Use an address that it names, or get one for this.")
            : untrusted.HasFlag(SslPolicyErrors.RemoteCertificateChainErrors)
            ? Finding.Fault("tls", "The certificate is not trusted by this machine: browsers refuse it.",
                "Have the proxy show the whole chain, from an authority that devices trust.")
            : Finding.Fine("tls", "The certificate is trusted.")];
    }

    async Task<Finding> Ready()
    {
        var asked = DateTimeOffset.UtcNow;
        using var answer = await Get(Root("/readyz"));
        if (answer.Headers.Date is { } date)
        {
            var by = (date - asked).Duration() - TimeSpan.FromSeconds(1); // a date has whole seconds
            clock = Inside.Clock("the service's", by > TimeSpan.Zero ? by : TimeSpan.Zero);
        }
        return answer.IsSuccessStatusCode ? Finding.Fine("ready", "The service takes requests.")
            : Finding.Fault("ready", $"The service is not ready: {await Told(answer)}", "See its log, and docs/operating.md.");
    }

    async Task<Finding> Key()
    {
        if (target.Key is null) return Finding.Skipped("key", "No API key was given: set ROVETT_KEY.");
        using var answer = await Get(At("/v1/status"), target.Key);
        if (answer.IsSuccessStatusCode)
        {
            var running = (string?)JsonNode.Parse(await answer.Content.ReadAsStringAsync())?["version"];
            return running is not null && running != ServiceInfo.Version
                ? Finding.Warning("version", $"The service is version {running}, this command {ServiceInfo.Version}.",
                    "Use the command of the service's version.")
                : Finding.Fine("key", "The API key is accepted.");
        }
        var slug = await Slug(answer);
        return slug switch
        {
            "api-key-unknown" => Finding.Fault("key", "The service does not know the API key: it is of another installation, or was " +
                "removed.", "Use a key of this one: rovett key create; or 'rovett key recover' on the service's machine."),
            "api-key-of-another-space" => Finding.Fault("key", $"The API key is not of the space {target.Space}.",
                "Give the space with --space, or a key of this one."),
            _ when slug?.StartsWith("api-key", StringComparison.Ordinal) == true => Finding.Warning("key",
                $"The API key may not read the status: {slug}", "For all of this examination, use an admin key."),
            _ => Finding.Fault("key", $"The API key is not accepted: {await Told(answer)}", "Check that the proxy passes the header " +
                "Authorization on, unchanged."),
        };
    }

    async Task<Finding> Origin(string origin)
    {
        using var asked = new HttpRequestMessage(HttpMethod.Options, At("/v1/inbox"));
        asked.Headers.Add("Origin", origin);
        asked.Headers.Add("Access-Control-Request-Method", "GET");
        asked.Headers.Add("Access-Control-Request-Headers", "authorization");
        using var answer = await Send(asked);
        answer.Headers.TryGetValues("Access-Control-Allow-Origin", out var values);
        var allowed = values?.ToArray() ?? [];
        if (allowed.Length > 1 || (allowed is [var one] && one.Contains(',', StringComparison.Ordinal)))
        {
            return Finding.Fault("origin", "The header Access-Control-Allow-Origin comes more than once, which browsers refuse: the " +
                "proxy adds its own.", "Have the proxy leave the headers of CORS to the service.");
        }
        if (allowed is [var it] && it == origin)
        {
            page ??= origin;
            return Finding.Fine("origin", $"Pages of {origin} may connect.");
        }
        return allowed is [var other] ? Finding.Fault("origin", $"Pages of {origin} are told that {other} may connect. A proxy answers " +
            "for the service.", "Have the proxy pass OPTIONS requests on.")
            : Finding.Fault("origin", $"Pages of {origin} may not connect.", $"Write it exactly as the browser does (scheme, host, " +
                $"port, no slash at the end), and allow it: rovett settings origins={origin}");
    }

    async Task<Finding> Token()
    {
        using var answer = await Get(At("/v1/inbox/totals"), target.Token);
        sessionOf = new JsonWebToken(target.Token).Subject;
        return answer.IsSuccessStatusCode ? Finding.Fine("token", $"The token is accepted, for the user '{sessionOf}'.")
            : Finding.Fault("token", $"The token is not accepted: {await Told(answer)}", "See docs/troubleshooting.md: the fix depends " +
                "on the reason.");
    }

    /// <summary>A proxy may take smaller bodies than the service does.</summary>
    async Task<Finding> BodySize()
    {
        if (target.Key is null) return Finding.Skipped("body-size", "Needs an API key.");
        using var asked = new HttpRequestMessage(HttpMethod.Post, At("/v1/notifications?dryRun=true"))
        { Content = new StringContent(new string(' ', 200 * 1024) + Message("large"), Encoding.UTF8, "application/json") };
        asked.Headers.Authorization = new AuthenticationHeaderValue("Bearer", target.Key);
        using var answer = await Send(asked);
        return (int)answer.StatusCode == 413 && await Slug(answer) is null
            ? Finding.Warning("body-size", "The proxy refuses a request of 200 KiB, which the service takes.",
                "Raise its limit to that of the service (maxBodyBytes, 256 KiB; 4 MiB for many notifications at once).")
            : answer.IsSuccessStatusCode ? Finding.Fine("body-size", "Requests of 200 KiB pass.") : Finding.Skipped("body-size",
                $"The key may not send: {await Told(answer)}");
    }

    /// <summary>Takes away the person that was made for this.</summary>
    async Task<Finding> Forget()
    {
        if (target.Key is null || sessionOf?.StartsWith(DoctorUser, StringComparison.Ordinal) != true)
            return Finding.Skipped("user", $"The user '{sessionOf}' was not made for this, or the key may not remove it.");
        using var asked = new HttpRequestMessage(HttpMethod.Delete, At($"/v1/users?id={Uri.EscapeDataString(sessionOf)}"));
        asked.Headers.Authorization = new AuthenticationHeaderValue("Bearer", target.Key);
        using var answer = await Send(asked);
        return answer.IsSuccessStatusCode ? Finding.Fine("user", $"The user '{sessionOf}', made for this, is removed.")
            : Finding.Skipped("user", $"The user '{sessionOf}', made for this, is still there: {await Told(answer)}");
    }

    /// <summary>How the ids of users begin that are made for an examination.</summary>
    public const string DoctorUser = "doctor-";

    Task<HttpResponseMessage> Get(Uri at, string? credential = null)
    {
        var asked = new HttpRequestMessage(HttpMethod.Get, at);
        if (credential is not null) asked.Headers.Authorization = new AuthenticationHeaderValue("Bearer", credential);
        return Send(asked);
    }

    async Task<HttpResponseMessage> Send(HttpRequestMessage asked, HttpCompletionOption until = HttpCompletionOption.ResponseContentRead)
    {
        using var limit = new CancellationTokenSource(Patience);
        return await http.SendAsync(asked, until, limit.Token);
    }

    static async Task<string?> Slug(HttpResponseMessage answer) => await Problem(answer) is { } problem
        ? ((string?)problem["type"])?.Split(':')[^1] : null;

    static async Task<string> Told(HttpResponseMessage answer) =>
        await Problem(answer) is { } problem ? $"{(string?)problem["detail"]} ({((string?)problem["type"])?.Split(':')[^1]})"
            : $"answered {(int)answer.StatusCode}, and not by the service";

    static async Task<JsonObject?> Problem(HttpResponseMessage answer) =>
        answer.Content.Headers.ContentType?.MediaType == "application/problem+json"
            ? JsonNode.Parse(await answer.Content.ReadAsStringAsync()) as JsonObject : null;

    public void Dispose()
    {
        http.Dispose();
        certificate?.Dispose();
    }
}
