using System.Net.Http.Headers;
using System.Text;
using System.Text.Json;
using System.Text.Json.Nodes;

namespace Rovett.Client;

/// <summary>A refusal by the service, with its reason (RFC 9457) and fix.</summary>
public sealed class RovettRefusedException(int status, string slug, string title, string detail, string fix)
    : Exception($"{title}: {detail} {fix}")
{
    /// <summary>The HTTP status.</summary>
    public int Status { get; } = status;
    /// <summary>The last part of the problem's <c>type</c>.</summary>
    public string Slug { get; } = slug;
    /// <summary>A short description of the kind of problem.</summary>
    public string Title { get; } = title;
    /// <summary>This case.</summary>
    public string Detail { get; } = detail;
    /// <summary>How to fix it.</summary>
    public string Fix { get; } = fix;

    /// <summary>Not before this time is it worth another attempt; null: the service does not say.</summary>
    public TimeSpan? RetryAfter { get; init; }

    /// <summary>Each field at fault, with what is wrong with it.</summary>
    public IReadOnlyList<(string Field, string Detail)> Fields { get; init; } = [];

    /// <summary>Reads a problem document.</summary>
    public static RovettRefusedException From(JsonNode? problem, int status, TimeSpan? retryAfter = null) => new(status,
        ((string?)problem?["type"])?.Split(':')[^1] ?? "unknown", (string?)problem?["title"] ?? "Refused",
        (string?)problem?["detail"] ?? $"The service answered {status}.", (string?)problem?["fix"] ?? "")
    {
        RetryAfter = retryAfter,
        Fields = [.. (problem?["errors"] as JsonArray ?? []).Select(e => ((string?)e?["field"] ?? "", (string?)e?["detail"] ?? ""))],
    };
}

/// <summary>Calls the HTTP interface with one credential: an API key or a user's token. Safe to share.</summary>
/// <param name="url">The service's address, such as <c>http://127.0.0.1:7411</c>; with <c>/s/&lt;space&gt;</c> for
/// another space than main.</param>
/// <param name="credential">The credential after <c>Bearer</c>.</param>
public sealed class RovettClient(Uri url, string credential) : IDisposable
{
    readonly HttpClient http = new(new SocketsHttpHandler { PooledConnectionLifetime = TimeSpan.FromMinutes(5), UseProxy = false })
    { Timeout = TimeSpan.FromSeconds(30) };

    /// <summary>Sends a notification: the members of <c>docs/protocol.md</c>.</summary>
    /// <param name="notification">Such as <c>{"to":["user:mara"],"type":"…","title":"…"}</c>.</param>
    /// <param name="idempotencyKey">Makes the call safe to repeat; null to leave it out.</param>
    /// <param name="dryRun">Answer what it would mean, and store nothing.</param>
    /// <param name="cancel">Ends the wait.</param>
    /// <exception cref="RovettRefusedException">The service refused it.</exception>
    /// <exception cref="HttpRequestException">The service can't be reached.</exception>
    public Task<JsonNode> Send(JsonNode notification, string? idempotencyKey = null, bool dryRun = false,
        CancellationToken cancel = default) =>
        Call(HttpMethod.Post, dryRun ? "/v1/notifications?dryRun=true" : "/v1/notifications", notification, cancel, idempotencyKey)!;

    /// <summary>Any call that answers JSON; null for an empty answer.</summary>
    /// <exception cref="RovettRefusedException">The service refused it.</exception>
    /// <exception cref="HttpRequestException">The service can't be reached.</exception>
    public Task<JsonNode> Call(HttpMethod method, string path, JsonNode? body = null, CancellationToken cancel = default,
        string? idempotencyKey = null, string? ifMatch = null, string? session = null) =>
        Call(method, path, () => body is null ? null : new StringContent(body.ToJsonString(), Encoding.UTF8, "application/json"), cancel,
            idempotencyKey, ifMatch, session);

    /// <summary>Any call with a body of any content.</summary>
    /// <exception cref="RovettRefusedException">The service refused it.</exception>
    /// <exception cref="HttpRequestException">The service can't be reached.</exception>
    public async Task<JsonNode> Call(HttpMethod method, string path, Func<HttpContent?> body, CancellationToken cancel = default,
        string? idempotencyKey = null, string? ifMatch = null, string? session = null)
    {
        using var request = new HttpRequestMessage(method, At(path));
        request.Headers.Authorization = new AuthenticationHeaderValue("Bearer", credential);
        if (ifMatch is not null) request.Headers.TryAddWithoutValidation("If-Match", $"\"{ifMatch}\"");
        if (session is not null) request.Headers.TryAddWithoutValidation("Rovett-Session", session);
        if (idempotencyKey is not null) request.Headers.Add("Idempotency-Key", idempotencyKey);
        request.Content = body();
        using var response = await http.SendAsync(request, cancel).ConfigureAwait(false);
        var text = await response.Content.ReadAsStringAsync(cancel).ConfigureAwait(false);
        var json = Parse(text);
        if (!response.IsSuccessStatusCode)
        {
            throw RovettRefusedException.From(json, (int)response.StatusCode, response.Headers.RetryAfter?.Delta);
        }
        if (json is JsonObject found && response.Headers.TryGetValues("Link", out var links) && links.First() is var link
            && link.StartsWith('<'))
            found["next"] = link[1..link.IndexOf('>', StringComparison.Ordinal)];
        return json ?? new JsonObject();
    }

    /// <summary>Stores many users; existing users are changed.</summary>
    /// <param name="lines">One JSON object a line: <c>{"id":"mara","displayName":"Mara","roles":["engineer"]}</c>.</param>
    /// <param name="cancel">Ends the wait.</param>
    /// <returns>How many were <c>stored</c> and <c>refused</c>, and the first <c>errors</c> by line; also when every
    /// line was refused.</returns>
    /// <exception cref="RovettRefusedException">The service refused all of it.</exception>
    /// <exception cref="HttpRequestException">The service can't be reached.</exception>
    public async Task<JsonNode> Import(string lines, CancellationToken cancel = default)
    {
        using var request = new HttpRequestMessage(HttpMethod.Post, At("/v1/users"))
        { Content = new StringContent(lines, Encoding.UTF8, "application/x-ndjson") };
        request.Headers.Authorization = new AuthenticationHeaderValue("Bearer", credential);
        using var response = await http.SendAsync(request, cancel).ConfigureAwait(false);
        var json = Parse(await response.Content.ReadAsStringAsync(cancel).ConfigureAwait(false));
        return json?["stored"] is not null ? json : throw RovettRefusedException.From(json, (int)response.StatusCode);
    }

    /// <summary>The address of a path of this client's space.</summary>
    /// <exception cref="ArgumentException">It is no path: it does not begin with <c>/</c>.</exception>
    public Uri At(string path) => !path.StartsWith('/')
        ? throw new ArgumentException($"'{path}' is not a path; it begins with '/'.", nameof(path))
        : new(path.StartsWith("/s/", StringComparison.Ordinal)
        ? url.GetLeftPart(UriPartial.Authority) + path
        : url.ToString().TrimEnd('/') + path);

    static JsonNode? Parse(string text)
    {
        try
        {
            return text.Length == 0 ? null : JsonNode.Parse(text);
        }
        catch (JsonException)
        {
            return null;
        }
    }

    /// <inheritdoc/>
    public void Dispose() => http.Dispose();
}
