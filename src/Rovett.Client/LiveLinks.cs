using System.Buffers;
using System.Net.Http.Headers;
using System.Net.WebSockets;
using System.Text;
using System.Text.Json;
using System.Text.Json.Nodes;

namespace Rovett.Client;

/// <summary>One connection over one transport.</summary>
abstract class LiveLink : IAsyncDisposable
{
    public abstract string Transport { get; }
    public string? Session { get; set; }
    public abstract Task<string?> Next(CancellationToken cancel);
    /// <summary>Sends a message.</summary>
    /// <returns>True when it is carried out by now; false when the answer comes among the messages, or it was refused.</returns>
    public abstract Task<bool> Send(JsonObject message, CancellationToken cancel);
    public abstract ValueTask DisposeAsync();
}

/// <summary>Over a WebSocket.</summary>
sealed class WebSocketLink(ClientWebSocket socket) : LiveLink
{
    readonly ArrayBufferWriter<byte> message = new(4096);
    readonly SemaphoreSlim turn = new(1, 1);

    public override string Transport => "websocket";

    public static async Task<LiveLink> Open(string address, string credential, bool only, CancellationToken cancel)
    {
        var socket = new ClientWebSocket();
        socket.Options.AddSubProtocol("rovett.v1");
        socket.Options.SetRequestHeader("Authorization", "Bearer " + credential);
        socket.Options.KeepAliveInterval = TimeSpan.Zero; // the service pings
        socket.Options.Proxy = null;
        socket.Options.CollectHttpResponseDetails = true;
        try
        {
            using var limit = CancellationTokenSource.CreateLinkedTokenSource(cancel);
            limit.CancelAfter(TimeSpan.FromSeconds(10));
            await socket.ConnectAsync(new Uri("ws" + address[4..]), limit.Token).ConfigureAwait(false);
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
            if (status is >= 400 and < 500 and not 429 && only)
                throw new RovettRefusedException(status, "upgrade-refused", "The WebSocket was refused", $"The handshake was answered {status}.", status is 401 or 403 ? "Check the token." : "Check the address; without --transport the reason is shown.");
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

    public override async Task<bool> Send(JsonObject message, CancellationToken cancel)
    {
        await turn.WaitAsync(cancel).ConfigureAwait(false);
        try
        {
            await socket.SendAsync(Encoding.UTF8.GetBytes(message.ToJsonString()), WebSocketMessageType.Text, true, cancel).ConfigureAwait(false);
            return false;
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
            }
        }
        catch (Exception error) when (error is WebSocketException or IOException or OperationCanceledException or ObjectDisposedException)
        {
        }
        socket.Dispose();
    }
}

/// <summary>Over server-sent events, with POSTs beside the stream.</summary>
sealed class SseLink(HttpClient http, Uri url, string credential, HttpResponseMessage response, StreamReader reader) : LiveLink
{
    public override string Transport => "sse";

    public static async Task<LiveLink> Open(HttpClient http, Uri url, string address, string credential, CancellationToken cancel)
    {
        using var request = new HttpRequestMessage(HttpMethod.Get, address);
        request.Headers.Accept.Add(new MediaTypeWithQualityHeaderValue("text/event-stream"));
        request.Headers.Authorization = new AuthenticationHeaderValue("Bearer", credential);
        var response = await http.SendAsync(request, HttpCompletionOption.ResponseHeadersRead, cancel).ConfigureAwait(false);
        if (!response.IsSuccessStatusCode || response.StatusCode == System.Net.HttpStatusCode.NoContent)
        {
            using (response)
            {
                int status = (int)response.StatusCode;
                if (status is >= 500 or 429) throw new HttpRequestException($"The service answered {status}.");
                JsonNode? problem = null;
                try
                {
                    problem = JsonNode.Parse(await response.Content.ReadAsStringAsync(cancel).ConfigureAwait(false));
                }
                catch (JsonException)
                {
                }
                throw RovettRefusedException.From(problem, status);
            }
        }
        return new SseLink(http, url, credential, response, new StreamReader(await response.Content.ReadAsStreamAsync(cancel).ConfigureAwait(false), Encoding.UTF8));
    }

    public override async Task<string?> Next(CancellationToken cancel)
    {
        var data = new StringBuilder();
        while (await reader.ReadLineAsync(cancel).ConfigureAwait(false) is { } line)
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

    public override async Task<bool> Send(JsonObject message, CancellationToken cancel)
    {
        using var request = new HttpRequestMessage(HttpMethod.Post, url.ToString().TrimEnd('/') + "/v1/live/" + Session);
        request.Headers.Authorization = new AuthenticationHeaderValue("Bearer", credential);
        request.Content = new StringContent(message.ToJsonString(), Encoding.UTF8, "application/json");
        using var answer = await http.SendAsync(request, cancel).ConfigureAwait(false);
        return answer.IsSuccessStatusCode;
    }

    public override ValueTask DisposeAsync()
    {
        reader.Dispose();
        response.Dispose();
        return default;
    }
}
