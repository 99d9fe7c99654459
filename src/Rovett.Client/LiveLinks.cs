using System.Buffers;
using System.Net;
using System.Net.Http.Headers;
using System.Net.WebSockets;
using System.Text;
using System.Text.Json;
using System.Text.Json.Nodes;

namespace Rovett.Client;

/// <summary>The result of a message to the service.</summary>
/// <param name="IsStored">It is carried out by now; false when the answer comes among the messages.</param>
/// <param name="IsRefused">It is not, and nothing more comes about it.</param>
/// <param name="Why">Why it was refused.</param>
readonly record struct LinkAnswer(bool IsStored = false, bool IsRefused = false, string? Why = null);

/// <summary>One connection over one transport.</summary>
abstract class LiveLink : IAsyncDisposable
{
    public abstract string Transport { get; }
    public string? Session { get; set; }
    /// <summary>A message that was read already, to see that it opened.</summary>
    public string? First { get; set; }
    public abstract Task<string?> Next(CancellationToken cancel);
    /// <summary>Sends a message.</summary>
    /// <exception cref="HttpRequestException">It did not get through.</exception>
    /// <exception cref="WebSocketException">It did not get through.</exception>
    public abstract Task<LinkAnswer> Send(JsonObject message, CancellationToken cancel);
    public abstract ValueTask DisposeAsync();
}

/// <summary>Over a WebSocket.</summary>
sealed class WebSocketLink(ClientWebSocket socket) : LiveLink
{
    readonly ArrayBufferWriter<byte> message = new(4096);
    readonly SemaphoreSlim turn = new(1, 1);

    public override string Transport => "websocket";

    /// <summary>Opens one.</summary>
    /// <param name="http">The handler for TLS connections.</param>
    /// <param name="address">With the query.</param>
    /// <param name="credential">The credential after <c>Bearer</c>.</param>
    /// <param name="deadAfter">When it is dead.</param>
    /// <param name="other">Asks over another transport why a handshake was refused, which does not say so itself; null
    /// when that is tried next anyway.</param>
    /// <param name="cancel">Ends the wait.</param>
    /// <exception cref="RovettRefusedException">The service refused.</exception>
    /// <exception cref="WebSocketException">It did not open.</exception>
    public static async Task<LiveLink> Open(HttpMessageInvoker http, string address, string credential, TimeSpan deadAfter,
        Func<CancellationToken, Task<LiveLink>>? other, CancellationToken cancel)
    {
        var socket = new ClientWebSocket();
        socket.Options.AddSubProtocol("rovett.v1");
        socket.Options.SetRequestHeader("Authorization", "Bearer " + credential);
        socket.Options.KeepAliveInterval = deadAfter / 2; // the service pings too, but what it sends is not seen here
        socket.Options.KeepAliveTimeout = deadAfter / 2;
        bool isSecure = address.StartsWith("https", StringComparison.Ordinal);
        if (isSecure)
        {
            // One stream of the connection that carries the requests too (RFC 8441), where the service or its proxy speaks that.
            socket.Options.HttpVersion = HttpVersion.Version20;
            socket.Options.HttpVersionPolicy = HttpVersionPolicy.RequestVersionOrLower;
        }
        else socket.Options.Proxy = null;
        socket.Options.CollectHttpResponseDetails = true;
        try
        {
            using var limit = CancellationTokenSource.CreateLinkedTokenSource(cancel);
            limit.CancelAfter(TimeSpan.FromSeconds(10));
            await socket.ConnectAsync(new Uri("ws" + address[4..]), isSecure ? http : null, limit.Token).ConfigureAwait(false);
            return new WebSocketLink(socket);
        }
        catch (OperationCanceledException) when (!cancel.IsCancellationRequested)
        {
            socket.Dispose();
            throw new WebSocketException("The WebSocket handshake took longer than 10 s.");
        }
        catch (WebSocketException)
        {
            int status = (int)socket.HttpStatusCode;
            socket.Dispose();
            if (status is >= 400 and < 500 and not 429 && other is not null)
                // Throws what the service says, if it was the service.
                await (await other(cancel).ConfigureAwait(false)).DisposeAsync().ConfigureAwait(false);
            throw;
        }
        catch
        {
            socket.Dispose();
            throw;
        }
    }

    public override async Task<string?> Next(CancellationToken cancel)
    {
        message.ResetWrittenCount();
        for (; ; )
        {
            var result = await socket.ReceiveAsync(message.GetMemory(4096), cancel).ConfigureAwait(false);
            if (result.MessageType == WebSocketMessageType.Close)
            {
                await socket.CloseOutputAsync(WebSocketCloseStatus.NormalClosure, null, CancellationToken.None).ConfigureAwait(false);
                return null;
            }
            message.Advance(result.Count);
            if (result.EndOfMessage) return Encoding.UTF8.GetString(message.WrittenSpan);
        }
    }

    public override async Task<LinkAnswer> Send(JsonObject message, CancellationToken cancel)
    {
        await turn.WaitAsync(cancel).ConfigureAwait(false);
        try
        {
            await socket.SendAsync(Encoding.UTF8.GetBytes(message.ToJsonString()), WebSocketMessageType.Text, true, cancel)
                .ConfigureAwait(false);
            return default;
        }
        finally
        {
            turn.Release();
        }
    }

    public override async ValueTask DisposeAsync()
    {
        try
        {
            if (socket.State == WebSocketState.Open)
            {
                using var limit = new CancellationTokenSource(TimeSpan.FromSeconds(1));
                await socket.CloseOutputAsync(WebSocketCloseStatus.NormalClosure, null, limit.Token).ConfigureAwait(false);
                // A socket that is closed with something unread takes with it what was just sent.
                var rest = new byte[4096];
                while ((await socket.ReceiveAsync(rest.AsMemory(), limit.Token).ConfigureAwait(false)).MessageType
                    != WebSocketMessageType.Close)
                {
                }
            }
        }
        catch (Exception error) when (error is WebSocketException or IOException or OperationCanceledException or ObjectDisposedException)
        {
        }
        socket.Dispose();
    }
}

/// <summary>A connection that only the service speaks on; the device posts beside it.</summary>
abstract class PostedLink(HttpClient http, Uri url, string credential, TimeSpan deadAfter) : LiveLink
{
    protected string Live { get; } = url.ToString().TrimEnd('/') + "/v1/live/";
    protected TimeSpan DeadAfter => deadAfter;

    public override async Task<LinkAnswer> Send(JsonObject message, CancellationToken cancel)
    {
        using var request = Request(HttpMethod.Post, Live + Session, credential);
        request.Content = new StringContent(message.ToJsonString(), Encoding.UTF8, "application/json");
        using var limit = CancellationTokenSource.CreateLinkedTokenSource(cancel);
        limit.CancelAfter(deadAfter);
        try
        {
            using var answer = await http.SendAsync(request, limit.Token).ConfigureAwait(false);
            return answer.IsSuccessStatusCode ? new LinkAnswer(IsStored: true)
                : new LinkAnswer(IsRefused: true, Why: $"the service answered {(int)answer.StatusCode}");
        }
        catch (OperationCanceledException) when (!cancel.IsCancellationRequested)
        {
            throw new HttpRequestException("Nothing was answered.");
        }
    }

    protected static HttpRequestMessage Request(HttpMethod method, string address, string credential, string? accept = null)
    {
        var request = new HttpRequestMessage(method, address);
        request.Headers.Authorization = new AuthenticationHeaderValue("Bearer", credential);
        if (accept is not null) request.Headers.Accept.Add(new MediaTypeWithQualityHeaderValue(accept));
        return request;
    }

    /// <summary>Throws what an answer that is none says.</summary>
    /// <exception cref="RovettRefusedException">The service refused.</exception>
    /// <exception cref="HttpRequestException">It can't answer now.</exception>
    protected static async Task<Exception> Trouble(HttpResponseMessage response, CancellationToken cancel)
    {
        int status = (int)response.StatusCode;
        if (status is >= 500 or 429) return new HttpRequestException($"The service answered {status}.");
        JsonNode? problem = null;
        try
        {
            problem = JsonNode.Parse(await response.Content.ReadAsStringAsync(cancel).ConfigureAwait(false));
        }
        catch (JsonException)
        {
        }
        // What stands between may answer what it likes; only the service's own problems are refusals.
        return problem is JsonObject own && own["type"] is JsonValue type && type.TryGetValue(out string? urn)
            && urn.StartsWith("urn:", StringComparison.Ordinal)
            ? RovettRefusedException.From(own, status)
            : new HttpRequestException($"What answered {status} is not the service.");
    }
}

/// <summary>Over server-sent events, with POSTs beside the stream.</summary>
sealed class SseLink(HttpClient http, Uri url, string credential, TimeSpan deadAfter, HttpResponseMessage response, StreamReader reader)
    : PostedLink(http, url, credential, deadAfter)
{
    public override string Transport => "sse";

    public static async Task<LiveLink> Open(HttpClient http, Uri url, string address, string credential, TimeSpan deadAfter,
        CancellationToken cancel)
    {
        using var request = Request(HttpMethod.Get, address, credential, "text/event-stream");
        using var limit = CancellationTokenSource.CreateLinkedTokenSource(cancel);
        limit.CancelAfter(deadAfter);
        HttpResponseMessage response;
        try
        {
            response = await http.SendAsync(request, HttpCompletionOption.ResponseHeadersRead, limit.Token).ConfigureAwait(false);
        }
        catch (OperationCanceledException) when (!cancel.IsCancellationRequested)
        {
            throw new HttpRequestException("Nothing was answered.");
        }
        if (!response.IsSuccessStatusCode || response.StatusCode == HttpStatusCode.NoContent)
        {
            using (response) throw await Trouble(response, cancel).ConfigureAwait(false);
        }
        return new SseLink(http, url, credential, deadAfter, response,
            new StreamReader(await response.Content.ReadAsStreamAsync(cancel).ConfigureAwait(false), Encoding.UTF8));
    }

    public override async Task<string?> Next(CancellationToken cancel)
    {
        var data = new StringBuilder();
        while (await Line(cancel).ConfigureAwait(false) is { } line)
        {
            if (line.Length == 0)
            {
                if (data.Length > 0) return data.ToString();
            }
            else if (line.StartsWith("data:", StringComparison.Ordinal))
            {
                if (data.Length > 0) data.Append('\n');
                data.Append(line.AsSpan(line.Length > 5 && line[5] == ' ' ? 6 : 5));
            }
        }
        return null;
    }

    /// <summary>The next line: of a heartbeat at least, as long as anybody is there.</summary>
    async Task<string?> Line(CancellationToken cancel)
    {
        var reading = reader.ReadLineAsync(cancel);
        if (reading.IsCompleted) return await reading.ConfigureAwait(false);
        var waiting = reading.AsTask();
        try
        {
            return await waiting.WaitAsync(DeadAfter, cancel).ConfigureAwait(false);
        }
        catch (TimeoutException)
        {
            _ = waiting.ContinueWith(static t => _ = t.Exception, TaskContinuationOptions.OnlyOnFaulted); // it ends with the connection
            throw new IOException("Nothing came for too long.");
        }
    }

    public override ValueTask DisposeAsync()
    {
        reader.Dispose();
        response.Dispose();
        return default;
    }
}

/// <summary>By requests that wait for an answer. One whose answer was lost is asked for again by its number.</summary>
sealed class LongPollLink(HttpClient http, Uri url, string address, string credential, TimeSpan deadAfter)
    : PostedLink(http, url, credential, deadAfter)
{
    const int MostRepeats = 2;

    readonly string credential = credential;
    readonly HttpClient http = http;
    readonly Queue<string> waiting = new();
    int turn;
    bool ended;

    public override string Transport => "long-poll";

    public override async Task<string?> Next(CancellationToken cancel)
    {
        while (waiting.Count == 0)
        {
            if (ended) return null;
            foreach (var message in await Ask(cancel).ConfigureAwait(false))
            {
                if (turn == 0) Session ??= (string?)message!["session"];
                ended |= (string?)message!["kind"] == "ending";
                waiting.Enqueue(message.ToJsonString());
            }
            turn++;
        }
        return waiting.Dequeue();
    }

    async Task<JsonArray> Ask(CancellationToken cancel)
    {
        for (int repeats = 0; ; repeats++)
        {
            try
            {
                using var request = Request(HttpMethod.Get, turn == 0 ? address : $"{Live}{Session}?turn={turn}", credential,
                    "application/json");
                request.Headers.TryAddWithoutValidation("Prefer", $"wait={(turn == 0 ? 0 : (int)(DeadAfter / 2).TotalSeconds)}");
                using var limit = CancellationTokenSource.CreateLinkedTokenSource(cancel);
                limit.CancelAfter(DeadAfter);
                using var response = await http.SendAsync(request, limit.Token).ConfigureAwait(false);
                if (response.StatusCode != HttpStatusCode.OK)
                {
                    throw turn == 0 ? await Trouble(response, cancel).ConfigureAwait(false)
                        : new HttpRequestException($"The session is over: the service answered {(int)response.StatusCode}.");
                }
                var answer = await JsonNode.ParseAsync(await response.Content.ReadAsStreamAsync(limit.Token).ConfigureAwait(false),
                    cancellationToken: limit.Token).ConfigureAwait(false);
                return answer as JsonArray is { } messages
                    && messages.All(m => m is JsonObject)
                    ? messages
                    : throw new HttpRequestException("The answer is not from the service.");
            }
            catch (JsonException)
            {
                throw new HttpRequestException("The answer is not from the service.");
            }
            catch (OperationCanceledException) when (!cancel.IsCancellationRequested)
            {
                throw new HttpRequestException("Nothing came for too long.");
            }
            catch (HttpRequestException lost) when (turn > 0 && repeats < MostRepeats && lost.StatusCode is null
                && lost.InnerException is not null)
            {
                // The same number gives the same answer.
            }
        }
    }

    public override ValueTask DisposeAsync() => default;
}
