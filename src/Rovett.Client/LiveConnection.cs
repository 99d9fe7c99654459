using System.Net;
using System.Net.WebSockets;
using System.Runtime.CompilerServices;
using System.Text;
using System.Text.Json;
using System.Text.Json.Nodes;

namespace Rovett.Client;

/// <summary>How to connect.</summary>
public enum LiveTransport
{
    /// <summary>WebSocket, where that fails server-sent events, where those are held back long poll.</summary>
    Auto,
    /// <summary>WebSocket only.</summary>
    WebSocket,
    /// <summary>Server-sent events only.</summary>
    Sse,
    /// <summary>Requests that wait for an answer only.</summary>
    LongPoll,
}

/// <summary>Settings of a live connection.</summary>
public sealed record LiveOptions
{
    /// <summary>The transport.</summary>
    public LiveTransport Transport { get; init; }
    /// <summary>The device's own id, kept between runs; null lets the service name one.</summary>
    public string? Device { get; init; }
    /// <summary>The device's name.</summary>
    public string? Label { get; init; }
    /// <summary>The newest cursor of an earlier connection, <c>now</c>, or null for everything no device has received.</summary>
    public string? After { get; init; }
    /// <summary>Acknowledge what was handed out, at most this many at once.</summary>
    public int AckEvery { get; init; } = 128;
    /// <summary>… and at the latest after this time.</summary>
    public TimeSpan AckWithin { get; init; } = TimeSpan.FromSeconds(1);
    /// <summary>Acknowledge by itself, after the caller asked for the next message.</summary>
    public bool AutoAcknowledge { get; init; } = true;
    /// <summary>A connection on which nothing came for so long is dead, whatever the network says, and made anew. At
    /// least two heartbeats of the service.</summary>
    public TimeSpan DeadAfter { get; init; } = TimeSpan.FromSeconds(50);
    /// <summary>Makes the connections: for certificates of your own, or a proxy. Null: a plain one.</summary>
    public HttpMessageHandler? Handler { get; init; }
    /// <summary>Come back after a cut. False: the stream ends with the connection.</summary>
    public bool Reconnect { get; init; } = true;
}

/// <summary>Receives one user's notifications as they come: reconnects, resumes from the newest cursor, acknowledges
/// what was handed out. One reader at a time.</summary>
/// <param name="url">The service's address, with <c>/s/&lt;space&gt;</c> for another space than main.</param>
/// <param name="token">Gives a token of the user; called for each connection. When it throws, or what it gives is no
/// token, it is asked again a little
/// later, and <see cref="LastTrouble"/> says why.</param>
/// <param name="options">The settings.</param>
public sealed class LiveConnection(Uri url, Func<CancellationToken, ValueTask<string>> token, LiveOptions? options = null) : IDisposable
{
    readonly LiveOptions options = options ?? new LiveOptions();
    readonly HttpClient http = new(options?.Handler ?? new SocketsHttpHandler { UseProxy = false, EnableMultipleHttp2Connections = true },
        disposeHandler: options?.Handler is null)
    {
        Timeout = Timeout.InfiniteTimeSpan,
        DefaultRequestVersion = HttpVersion.Version20,
        DefaultVersionPolicy = HttpVersionPolicy.RequestVersionOrLower, // without TLS that is HTTP/1.1
    };
    readonly Random chance = new();
    readonly Unconfirmed unconfirmed = new();
    LiveLink? link;
    string credential = "";

    /// <summary>The newest cursor handed out; pass it as <see cref="LiveOptions.After"/> to go on from here.</summary>
    public string? Cursor { get; private set; } = options?.After is "now" ? null : options?.After;

    /// <summary>The transport in use, or null while there is none.</summary>
    public string? Transport { get; private set; }

    /// <summary>How often the connection was made anew.</summary>
    public int Reconnects { get; private set; }

    /// <summary>Why the last connection ended or could not be made.</summary>
    public string? LastTrouble { get; private set; }

    /// <summary>Every message in order, over all connections. Subscribe, watch and attend again after each <c>opened</c>: the service
    /// starts over, also when another node takes over the space and <c>opened</c> comes again on the same connection. Ends
    /// when the service refuses for good, or without <see cref="LiveOptions.Reconnect"/> when the connection does.</summary>
    /// <exception cref="RovettRefusedException">The service refused the credential or the request.</exception>
    /// <exception cref="FormatException">Without <see cref="LiveOptions.Reconnect"/>: what the token function gave is
    /// no token. What that function throws comes through as it is.</exception>
    public async IAsyncEnumerable<JsonObject> Messages([EnumeratorCancellation] CancellationToken cancel = default)
    {
        int failures = 0;
        bool askedAnew = false;
        for (; ; )
        {
            bool ended = false;
            int? comeBack = null;
            try
            {
                link = await Connect(cancel).ConfigureAwait(false);
            }
            catch (RovettRefusedException refused) when (refused.Slug == "token-expired" && options.Reconnect)
            {
                // It may have been kept since before: at once with a fresh one, and a little later while those are no better.
                LastTrouble = $"{refused.Title}: {refused.Detail}";
                if (!askedAnew)
                {
                    askedAnew = true;
                    continue;
                }
            }
            if (link is not null)
            {
                askedAnew = false;
                using var acks = new AckGatherer(link, unconfirmed, options, why => LastTrouble = why);
                unconfirmed.Resumed();
                await using (link)
                {
                    Transport = link.Transport;
                    await foreach (var message in Read(link, cancel).ConfigureAwait(false))
                    {
                        var kind = (string?)message["kind"];
                        if (kind == "ending")
                        {
                            LastTrouble = $"ended by the service: {message["reason"]}";
                            comeBack = (int?)message["comeBackWithinMs"];
                            // Then a fresh token is asked for.
                            ended = comeBack is null && (string?)message["reason"] is not ("token-expired" or "signing-key-removed");
                        }
                        if (kind == "refused" && message["requestId"] is null && message["problem"] is { } problem && failures == 0
                            && Transport == "websocket" && Cursor is null)
                            throw RovettRefusedException.From(problem, (int?)problem["status"] ?? 0);
                        failures = 0;
                        if (acks.Answers(message)) continue;
                        // After a cut it is sent again what the service does not know to be here; that was handed out before.
                        var (handed, isCut) = await Whole(message, cancel).ConfigureAwait(false);
                        if (isCut) break; // it comes again with the next connection
                        bool counts = kind == "notification" && options.AutoAcknowledge;
                        if (unconfirmed.Came(kind, counts ? (string?)message["id"] : null, (string?)message["cursor"]))
                        {
                            if (handed is not null) yield return handed;
                        }
                        if (message["cursor"] is { } cursor && !unconfirmed.IsRepeating) Cursor = (string?)cursor;
                        if (kind == "notification" && options.AutoAcknowledge && message["cursor"] is { } toAck)
                        {
                            await acks.Handled((string)toAck!, atOnce: message.ContainsKey("due"), cancel).ConfigureAwait(false);
                        }
                        else if (kind == "ackDue") await acks.Now(cancel).ConfigureAwait(false);
                    }
                }
                link = null;
                Transport = null;
            }
            if (ended || !options.Reconnect || cancel.IsCancellationRequested) yield break;
            Reconnects++;
            double seconds = comeBack is { } ms ? chance.NextDouble() * ms / 1000
                : Math.Min(20, 0.2 * Math.Pow(2, failures++)) * (0.5 + chance.NextDouble() / 2);
            await Task.Delay(TimeSpan.FromSeconds(seconds), cancel).ConfigureAwait(false);
        }
    }

    /// <summary>A message as it is handed out: of a notification that came in part, all of it.</summary>
    /// <returns>It, null when it is gone; and whether it could not be fetched.</returns>
    async Task<(JsonObject? Message, bool IsCut)> Whole(JsonObject message, CancellationToken cancel)
    {
        if (message["carry"] is null || (string?)message["id"] is not { } id) return (message, false);
        try
        {
            using var request = new HttpRequestMessage(HttpMethod.Get, url.ToString().TrimEnd('/') + "/v1/inbox?ids=" + id);
            request.Headers.TryAddWithoutValidation("Authorization", "Bearer " + credential);
            using var answer = await http.SendAsync(request, cancel).ConfigureAwait(false);
            answer.EnsureSuccessStatusCode();
            var page = JsonNode.Parse(await answer.Content.ReadAsStringAsync(cancel).ConfigureAwait(false))!;
            if (page["items"]!.AsArray() is not [JsonObject item]) return (null, false);
            var whole = message.DeepClone().AsObject();
            whole.Remove("carry");
            foreach (var (name, value) in item)
            {
                if (name is not ("cursor" or "state")) whole[name] = value?.DeepClone();
            }
            return (whole, false);
        }
        catch (HttpRequestException error)
        {
            LastTrouble = $"the rest of a notification could not be fetched: {error.Message}";
            return (null, true);
        }
    }

    /// <summary>Sends a message to the service: <c>ack</c>, <c>markRead</c> …; the answer, if any, comes among
    /// <see cref="Messages"/>.</summary>
    /// <exception cref="InvalidOperationException">There is no connection now.</exception>
    public Task Send(JsonObject message, CancellationToken cancel = default) =>
        (link ?? throw new InvalidOperationException("There is no connection now; send when 'opened' has come.")).Send(message, cancel);

    async Task<LiveLink?> Connect(CancellationToken cancel)
    {
        try
        {
            credential = Checked(await token(cancel).ConfigureAwait(false));
        }
        catch (Exception error) when (options.Reconnect && !cancel.IsCancellationRequested)
        {
            LastTrouble = $"no token: {error.Message}";
            return null;
        }
        var query = new StringBuilder("?reopens=true&");
        if ((unconfirmed.Before ?? Cursor ?? options.After) is { } after)
        {
            query.Append("after=").Append(Uri.EscapeDataString(after)).Append('&');
        }
        if (options.Device is { } device) query.Append("device=").Append(Uri.EscapeDataString(device)).Append('&');
        if (options.Label is { } label) query.Append("label=").Append(Uri.EscapeDataString(label)).Append('&');
        var tried = new List<(string Transport, string Why)>();
        string Address() => url.ToString().TrimEnd('/') + "/v1/live"
            + (query + string.Concat(tried.Select(t => $"tried={Uri.EscapeDataString($"{t.Transport}: {t.Why}")}&"))).TrimEnd('&', '?');
        Func<CancellationToken, Task<LiveLink>> Told(string transport,
            Func<string, CancellationToken, Task<LiveLink>> open) => async stop =>
        {
            string address;
            int at;
            lock (tried) // one that fails says so while the next one starts
            {
                (address, at) = (Address(), tried.Count);
                tried.Add((transport, "no answer yet"));
            }
            try
            {
                return await open(address, stop).ConfigureAwait(false);
            }
            catch (Exception error) when (error is not OperationCanceledException)
            {
                lock (tried) tried[at] = (transport, error.Message);
                throw;
            }
        };
        var sse = Told("sse", (address, stop) => SseLink.Open(http, url, address, credential, options.DeadAfter, stop));
        var webSocket = Told("websocket", (address, stop) => WebSocketLink.Open(http, address, credential, options.DeadAfter,
            options.Transport == LiveTransport.WebSocket ? sse : null, stop));
        var longPoll = Told("long-poll",
            (address, _) => Task.FromResult<LiveLink>(new LongPollLink(http, url, address, credential, options.DeadAfter)));
        Func<CancellationToken, Task<LiveLink>>[] rungs = options.Transport switch
        {
            LiveTransport.WebSocket => [webSocket],
            LiveTransport.Sse => [sse],
            LiveTransport.LongPoll => [longPoll],
            _ => [webSocket, sse, longPoll],
        };
        return await Ladder.Climb(rungs, why => LastTrouble = why, cancel).ConfigureAwait(false);
    }

    /// <summary>What is no token at all, such as a page to sign in on, is the function's failure, and no word of the service.</summary>
    static string Checked(string? given)
    {
        var text = given?.Trim() ?? "";
        bool isOne = text.Split('.') is { Length: 3 } parts && parts.All(p => p.All(c => char.IsAsciiLetterOrDigit(c) || c is '-' or '_'))
            && parts[0].Length > 0 && parts[1].Length > 0;
        return isOne
            ? text
            : throw new FormatException(
            $"What the function gave is none: {(given is null ? "null" : $"\"{(text.Length > 40 ? text[..40] + "…" : text)}\"")}.");
    }

    async IAsyncEnumerable<JsonObject> Read(LiveLink from, [EnumeratorCancellation] CancellationToken cancel)
    {
        for (; ; )
        {
            string? text;
            try
            {
                (text, from.First) = (from.First ?? await from.Next(cancel).ConfigureAwait(false), null);
            }
            catch (Exception error) when (error is WebSocketException or IOException or HttpRequestException
                // As a socket ends on which no pong came in time.
                || (error is OperationCanceledException && !cancel.IsCancellationRequested))
            {
                LastTrouble = error.Message;
                yield break;
            }
            if (text is null) yield break;
            JsonObject? message;
            try
            {
                message = JsonNode.Parse(text) as JsonObject;
            }
            catch (JsonException error)
            {
                LastTrouble = $"what came is not a message: {error.Message}"; // something between that answers for the service
                yield break;
            }
            if (message is null) continue;
            if ((string?)message["kind"] == "opened") from.Session = (string?)message["session"];
            yield return message;
        }
    }

    /// <inheritdoc/>
    public void Dispose() => http.Dispose();
}
