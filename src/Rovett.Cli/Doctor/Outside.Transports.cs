using System.Diagnostics;
using System.Globalization;
using System.Net.Http.Headers;
using System.Net.WebSockets;
using System.Text;
using System.Text.Json;
using System.Text.Json.Nodes;
using System.Text.RegularExpressions;

namespace Rovett.Cli.Doctor;

/// <summary>A test notification over each transport, and connections on which nothing is sent.</summary>
sealed partial class Outside
{
    string Message(string title) => new JsonObject
    { ["to"] = new JsonArray("user:" + sessionOf), ["type"] = "doctor.check", ["title"] = title, ["store"] = false }.ToJsonString();

    async Task<bool> SendTest(string title)
    {
        if (target.Key is null) return false;
        using var asked = new HttpRequestMessage(HttpMethod.Post, At("/v1/notifications"))
        { Content = new StringContent(Message(title), Encoding.UTF8, "application/json") };
        asked.Headers.Authorization = new AuthenticationHeaderValue("Bearer", target.Key);
        using var answer = await Send(asked);
        return answer.IsSuccessStatusCode;
    }

    const string NotTried = " Without an API key that may send, no test notification was sent.";

    /// <summary>Sends a test notification and waits for it.</summary>
    /// <param name="name">The transport.</param>
    /// <param name="next">The next message; null: the connection has ended.</param>
    /// <param name="fixIfLate">What to do when it does not come.</param>
    async Task<Finding> RoundTrip(string name, Func<CancellationToken, Task<string?>> next, string fixIfLate)
    {
        using var limit = new CancellationTokenSource(Patience);
        try
        {
            while (await next(limit.Token) is var first && !IsOpened(first))
            {
                if (first is null) return Finding.Fault(name, "The connection was opened, and ended before a word came.", fixIfLate);
            }
        }
        catch (OperationCanceledException)
        {
            return Finding.Fault(name, $"The connection was opened, and nothing came on it for {Patience.TotalSeconds:0} s: something " +
                "on the way holds it back.", fixIfLate);
        }
        var title = Guid.NewGuid().ToString("N");
        long sent = Stopwatch.GetTimestamp();
        if (!await SendTest(title)) return Finding.Fine(name, "It opens." + NotTried);
        using var again = new CancellationTokenSource(Patience);
        try
        {
            while (await next(again.Token) is { } message)
            {
                if (!message.Contains(title, StringComparison.Ordinal)) continue;
                var took = roundTrips[name] = Stopwatch.GetElapsedTime(sent);
                return Finding.Fine(name, string.Create(CultureInfo.InvariantCulture, $"A test notification came after " +
                    $"{took.TotalMilliseconds:0} ms."));
            }
            return Finding.Fault(name, "The connection ended before a test notification came.", fixIfLate);
        }
        catch (OperationCanceledException)
        {
            return Finding.Fault(name, $"A test notification did not come within {Patience.TotalSeconds:0} s: something on the way " +
                "holds it back.", fixIfLate);
        }
    }

    /// <summary>Whether it is the first message, which says how often the service shows a sign of life.</summary>
    bool IsOpened(string? message)
    {
        if (message?.Contains("\"kind\":\"opened\"", StringComparison.Ordinal) != true) return false;
        if (Heartbeat().Match(message) is { Success: true } found) heartbeatSeconds = int.Parse(found.Groups[1].Value,
            CultureInfo.InvariantCulture);
        return true;
    }

    [GeneratedRegex("\"heartbeatSeconds\":(\\d+)")]
    private static partial Regex Heartbeat();

    const string PassUpgrade = "Have the proxy speak HTTP/1.1 to the service and pass the headers Upgrade and Connection on " +
        "(docs/deploy). Until then clients take server-sent events.",
        DoNotBuffer = "Switch buffering, caching and compression of responses off for /v1/live (docs/deploy).";

    ClientWebSocket NewSocket()
    {
        var socket = new ClientWebSocket();
        socket.Options.AddSubProtocol("rovett.v1");
        socket.Options.SetRequestHeader("Authorization", "Bearer " + target.Token);
        socket.Options.RemoteCertificateValidationCallback = static (_, _, _, _) => true; // told already
        socket.Options.CollectHttpResponseDetails = true;
        socket.Options.KeepAliveInterval = TimeSpan.Zero; // it is the service that shows signs of life
        if (page is not null) socket.Options.SetRequestHeader("Origin", page);
        return socket;
    }

    Uri SocketUrl()
    {
        var at = At("/v1/live?device=doctor&after=now");
        return new UriBuilder(at) { Scheme = at.Scheme == "https" ? "wss" : "ws" }.Uri;
    }

    async Task<Finding> WebSocket()
    {
        using var socket = NewSocket();
        using var limit = new CancellationTokenSource(Patience);
        try
        {
            await socket.ConnectAsync(SocketUrl(), limit.Token);
        }
        catch (Exception error) when (error is WebSocketException or OperationCanceledException)
        {
            return Finding.Fault("websocket", $"The WebSocket was not opened: {((int)socket.HttpStatusCode is var status and not 0
                ? $"answered {status}" : error.Message)}.", PassUpgrade);
        }
        return await RoundTrip("websocket", cancel => Next(socket, cancel), PassUpgrade);
    }

    static async Task<string?> Next(ClientWebSocket socket, CancellationToken cancel)
    {
        var buffer = new byte[16 * 1024];
        using var message = new MemoryStream();
        try
        {
            for (; ; )
            {
                var part = await socket.ReceiveAsync(buffer.AsMemory(), cancel);
                if (part.MessageType == WebSocketMessageType.Close) return null;
                message.Write(buffer, 0, part.Count);
                if (part.EndOfMessage) return Encoding.UTF8.GetString(message.ToArray());
            }
        }
        catch (WebSocketException)
        {
            return null;
        }
    }

    async Task<HttpResponseMessage> OpenEvents()
    {
        using var asked = new HttpRequestMessage(HttpMethod.Get, At("/v1/live?device=doctor&after=now"));
        asked.Headers.Authorization = new AuthenticationHeaderValue("Bearer", target.Token);
        asked.Headers.Accept.ParseAdd("text/event-stream");
        asked.Headers.AcceptEncoding.ParseAdd("gzip"); // as browsers do
        if (page is not null) asked.Headers.Add("Origin", page);
        return await Send(asked, HttpCompletionOption.ResponseHeadersRead);
    }

    async Task<Finding> Events()
    {
        try
        {
            using var answer = await OpenEvents();
            if (!answer.IsSuccessStatusCode) return Finding.Fault("events", $"The stream was not opened: {await Told(answer)}",
                DoNotBuffer);
            if (answer.Content.Headers.ContentEncoding.Count > 0)
            {
                return Finding.Fault("events", "The stream is compressed on the way " +
                    $"({answer.Content.Headers.ContentEncoding.First()}), which holds messages back.", DoNotBuffer);
            }
            await using var stream = await answer.Content.ReadAsStreamAsync();
            using var reader = new StreamReader(stream);
            return await RoundTrip("events", cancel => Line(reader, cancel), DoNotBuffer);
        }
        catch (OperationCanceledException)
        {
            return Finding.Fault("events", $"The stream was not opened within {Patience.TotalSeconds:0} s: its beginning is held " +
                "back.", DoNotBuffer);
        }
    }

    static async Task<string?> Line(StreamReader reader, CancellationToken cancel)
    {
        try
        {
            return await reader.ReadLineAsync(cancel);
        }
        catch (Exception error) when (error is IOException or HttpRequestException)
        {
            return null;
        }
    }

    async Task<Finding> LongPoll()
    {
        string? session = null;
        int turn = 0;
        async Task<string?> Poll(CancellationToken cancel)
        {
            var path = session is null ? "/v1/live?device=doctor&after=now" : $"/v1/live/{session}?turn={++turn}";
            using var asked = new HttpRequestMessage(HttpMethod.Get, At(path));
            asked.Headers.Authorization = new AuthenticationHeaderValue("Bearer", target.Token);
            asked.Headers.Accept.ParseAdd("application/json");
            asked.Headers.TryAddWithoutValidation("Prefer", "wait=4");
            using var answer = await http.SendAsync(asked, cancel);
            if (!answer.IsSuccessStatusCode) return null;
            var text = await answer.Content.ReadAsStringAsync(cancel);
            session ??= (string?)JsonNode.Parse(text)?.AsArray().FirstOrDefault()?["session"];
            return text;
        }
        try
        {
            return await RoundTrip("long-poll", Poll, DoNotBuffer);
        }
        catch (Exception error) when (error is HttpRequestException or JsonException)
        {
            return Finding.Fault("long-poll", $"A poll failed: {error.Message}", DoNotBuffer);
        }
    }

    Finding Latency()
    {
        if (roundTrips.Count == 0) return Finding.Skipped("latency", "No test notification came.");
        var (name, longest) = roundTrips.MaxBy(r => r.Value);
        var what = string.Create(CultureInfo.InvariantCulture, $"From the send to the device: " +
            $"{roundTrips.Values.Min().TotalMilliseconds:0} to {longest.TotalMilliseconds:0} ms.");
        return longest > SlowRoundTrip ? Finding.Warning("latency", what, $"Look at the load of the service (rovett status), its disk, " +
            $"and the way there; {name} is the slowest.") : Finding.Fine("latency", what);
    }

    /// <summary>Leaves a connection without a notification for longer than the service takes to show a sign of life.</summary>
    async Task<Finding> Quiet()
    {
        if (!target.WaitsQuiet) return Finding.Skipped("quiet", "Left out (--quick).");
        using var socket = NewSocket();
        using var limit = new CancellationTokenSource(Patience);
        try
        {
            await socket.ConnectAsync(SocketUrl(), limit.Token);
            while (await Next(socket, limit.Token) is { } message)
            {
                if (IsOpened(message)) break;
            }
        }
        catch (Exception error) when (error is WebSocketException or OperationCanceledException)
        {
            return await QuietStream();
        }
        return Kept("WebSocket", await Lasts(async cancel => await Next(socket, cancel)));
    }

    async Task<Finding> QuietStream()
    {
        try
        {
            using var answer = await OpenEvents();
            await using var stream = await answer.Content.ReadAsStreamAsync();
            using var reader = new StreamReader(stream);
            return Kept("stream", await Lasts(async cancel => await Line(reader, cancel)));
        }
        catch (OperationCanceledException)
        {
            return Finding.Skipped("quiet", "No connection can be opened.");
        }
    }

    /// <returns>When it ended; null: it is still open.</returns>
    async Task<TimeSpan?> Lasts(Func<CancellationToken, Task<string?>> next)
    {
        var clock = Stopwatch.StartNew();
        using var enough = new CancellationTokenSource(TimeSpan.FromSeconds(heartbeatSeconds) + QuietMargin);
        try
        {
            while (await next(enough.Token) is not null) { }
            return clock.Elapsed;
        }
        catch (OperationCanceledException)
        {
            return null;
        }
    }

    Finding Kept(string what, TimeSpan? ended) => ended is { } after
        ? Finding.Fault("quiet", string.Create(CultureInfo.InvariantCulture, $"A {what} on which nothing was sent was cut after " +
            $"{after.TotalSeconds:0} s; the service shows a sign of life every {heartbeatSeconds} s."),
            $"Raise the idle time-outs on the way above {heartbeatSeconds} s (nginx: proxy_read_timeout), or lower heartbeatSeconds.")
        : Finding.Fine("quiet", $"A {what} on which nothing was sent stayed open for {heartbeatSeconds +
            QuietMargin.TotalSeconds:0} s, longer than the service is silent.");
}
