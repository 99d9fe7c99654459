using System.Diagnostics;
using System.Net.Http.Headers;
using System.Text;

namespace Rovett.Bench;

/// <summary>One reading: deliveries a second to N sessions, closed loop, at most 16 sends' worth outstanding.</summary>
sealed record Reading(double PerSecond, long Sends);

/// <summary>Connects sessions, sends, counts. Loopback only, bounded in number and time.</summary>
sealed class Load(Uri url, bool webSocket, int sessions, Func<int, string> request, string publishPath, string body, string? key, bool acks)
{
    const int Window = 16;
    public static TimeSpan Measured { get; set; } = TimeSpan.FromSeconds(4);
    long delivered, sent, opened;

    /// <summary>Nothing is sent before every session has said that it is open.</summary>
    public bool WaitsUntilOpen { get; init; }

    /// <summary>How long each sender rests between two sends; null: it sends as soon as no more than the window is outstanding.</summary>
    public TimeSpan? Rests { get; init; }

    /// <summary>Where it sends; null: where the sessions are.</summary>
    public Uri? SendsTo { get; init; }

    /// <summary>Called when it begins to count, and when it has counted.</summary>
    public Action<bool, long>? Counts { get; init; }

    /// <summary>When all were open, from when the first connected.</summary>
    public TimeSpan OpenedAfter { get; private set; }

    /// <summary>For how long it is not counted yet.</summary>
    public TimeSpan Warmup { get; init; } = TimeSpan.FromSeconds(3);

    /// <summary>The request that opens a session.</summary>
    public static string Request(bool webSocket, string path, string? token) =>
        $"GET {path} HTTP/1.1\r\nHost: x\r\n{(token is null ? "" : $"Authorization: Bearer {token}\r\n")}{(webSocket ? "Upgrade: " +
        "websocket\r\nConnection: Upgrade\r\nSec-WebSocket-Version: 13\r\nSec-WebSocket-Key: dGhlIHNhbXBsZSBub25jZQ==\r\n" : "Accept: " +
        "text/event-stream\r\n")}\r\n";

    public async Task<Reading> Run()
    {
        var all = new List<LoadSession>();
        using var stop = new CancellationTokenSource();
        using var http = new HttpClient(new SocketsHttpHandler { MaxConnectionsPerServer = Window, UseProxy = false });
        try
        {
            long began = Stopwatch.GetTimestamp();
            foreach (var chunk in Enumerable.Range(0, sessions).Chunk(100))
            {
                all.AddRange(await Task.WhenAll(chunk.Select(i => Connect(i, stop.Token))));
            }
            await Task.Delay(500);
            while (WaitsUntilOpen && Volatile.Read(ref opened) < sessions) await Task.Delay(10);
            OpenedAfter = Stopwatch.GetElapsedTime(began);
            var senders = Enumerable.Range(0, Window).Select(_ => Send(http, stop.Token)).ToArray();
            await Task.Delay(Warmup);
            long before = Volatile.Read(ref delivered);
            var clock = Stopwatch.StartNew();
            Counts?.Invoke(true, Volatile.Read(ref sent));
            await Task.Delay(Measured);
            Counts?.Invoke(false, Volatile.Read(ref sent));
            double rate = (Volatile.Read(ref delivered) - before) / clock.Elapsed.TotalSeconds;
            await stop.CancelAsync();
            await Task.WhenAll(senders);
            return new Reading(rate, sent);
        }
        finally
        {
            await stop.CancelAsync();
            foreach (var session in all) session.Dispose();
        }
    }

    async Task Send(HttpClient http, CancellationToken cancel)
    {
        while (!cancel.IsCancellationRequested)
        {
            if (Rests is { } rest) await Task.Delay(rest, CancellationToken.None);
            // Closed loop: the next send only when no more than the window's worth is outstanding.
            while (Volatile.Read(ref sent) * sessions - Volatile.Read(ref delivered) > (long)Window * sessions
                && !cancel.IsCancellationRequested)
            {
                await Task.Yield();
            }
            using var message = new HttpRequestMessage(HttpMethod.Post, new Uri(SendsTo ?? url, publishPath))
            { Content = new StringContent(body, Encoding.UTF8, "application/json") };
            if (key is not null) message.Headers.Authorization = new AuthenticationHeaderValue("Bearer", key);
            Interlocked.Increment(ref sent);
            using var answer = await http.SendAsync(message, CancellationToken.None);
            answer.EnsureSuccessStatusCode();
        }
    }

    async Task<LoadSession> Connect(int index, CancellationToken cancel)
    {
        var session = new LoadSession(acks && webSocket, count => Interlocked.Add(ref delivered, count),
            _ => Interlocked.Increment(ref opened));
        await session.Connect(url.Port, Encoding.ASCII.GetBytes(request(index)), cancel);
        return session;
    }
}
