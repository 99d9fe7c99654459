using System.Text;
using System.Text.Json;
using Microsoft.Extensions.Hosting;
using Rovett.Core.Delivery;
using Rovett.Core.Wire;
using Rovett.Core.Wire.Sse;
using Rovett.Service.Credentials;
using Rovett.Service.Http;
using Rovett.Service.Limits;
using Rovett.Service.Receipts;
using Rovett.Service.Spaces;

namespace Rovett.Service.Endpoints.Backend;

/// <summary>Receipts for backends, as a stream that can be resumed and as pages. They are passed on as they are written,
/// by hand.</summary>
public sealed class ReceiptsApi(ApiKeys keys, ReceiptReader receipts, ReceiptNews news, TimeProvider clock, SessionLimits limits,
    IHostApplicationLifetime lifetime)
{
    const int Rows = 100;

    /// <summary>Lists receipts, or streams them.</summary>
    /// <remarks>What became of notifications, in order. With <c>Accept: text/event-stream</c>, a stream that can be resumed
    /// with <c>Last-Event-ID</c>; otherwise a page.</remarks>
    public Task ListReceipts(HttpContext context)
    {
        var (space, key) = context.KeyCaller();
        bool stream = context.Request.Headers.Accept.ToString().Contains("text/event-stream", StringComparison.OrdinalIgnoreCase);
        var (after, foreign) = Start(context, space, stream);
        return stream ? Stream(context, space, key, after, foreign) : Page(context, space, after, foreign);
    }

    /// <summary>Where to begin: after a cursor; a page without one at the oldest kept, a stream at what comes from now on.</summary>
    (long After, bool Foreign) Start(HttpContext context, SpaceRuntime space, bool stream)
    {
        var header = context.Request.Headers["Last-Event-ID"].ToString();
        var cursor = header.Length > 0 ? header : context.Request.Query["after"].ToString();
        if (cursor == "start" || (cursor.Length == 0 && !stream)) return (0, false);
        if (cursor is "now" or "") return (receipts.Bounds(space).Newest, false);
        return space.Receipts.Open(cursor, out var position) switch
        {
            CursorState.Valid => (position.Value, false),
            CursorState.Foreign => (0, true),
            _ => throw Problem.Invalid(
                [new FieldError(header.Length > 0 ? "Last-Event-ID" : "after",
                "is not a cursor of receipts; pass on one that came with a receipt, or start, or now")],
                "Correct the named parameter.").ToException(),
        };
    }

    /// <summary>A gap before a number: receipts that are no longer kept, or all from before a restore.</summary>
    string? Gap(SpaceRuntime space, long after, bool foreign) =>
        foreign ? "new-life" : after > 0 && receipts.Bounds(space).Oldest > after + 1 ? "retention" : null;

    async Task Page(HttpContext context, SpaceRuntime space, long after, bool foreign)
    {
        var gap = Gap(space, after, foreign);
        var (messages, next) = receipts.After(space, after, Rows);
        await Json.Write(context, 200, json =>
        {
            json.WriteStartObject();
            if (gap is not null) json.WriteString("gap", gap);
            json.WriteStartArray("receipts");
            foreach (var message in messages) json.WriteRawValue(message.Json);
            json.WriteEndArray();
            json.WriteString("cursor", space.Receipts.Seal(new Position(next)));
            json.WriteBoolean("more", receipts.Bounds(space).Newest > next);
            json.WriteEndObject();
        });
    }

    async Task Stream(HttpContext context, SpaceRuntime space, ApiKey key, long after, bool foreign)
    {
        Connections.IsStream(context);
        Connections.Keep(context);
        var response = context.Response;
        response.ContentType = "text/event-stream";
        response.Headers.CacheControl = "no-cache";
        response.Headers["X-Accel-Buffering"] = "no";
        using var ended = CancellationTokenSource.CreateLinkedTokenSource(context.RequestAborted, lifetime.ApplicationStopping);
        void End(string? where, string? id)
        {
            if ((where is not null && where != space.Name) || (id is null ? keys.StillHolds(key) : id != key.Stored.Id)) return;
            try
            {
                ended.Cancel();
            }
            catch (ObjectDisposedException)
            {
                // It ended by itself while it was told.
            }
        }
        keys.Ended += End;
        try
        {
            if (!keys.StillHolds(key)) return; // while it was let in
            await response.StartAsync(ended.Token);
            var start = space.Receipts.Seal(new Position(after));
            await Write("opened", start,
                Encoding.UTF8.GetBytes($"{{\"kind\":\"opened\",\"cursor\":\"{start}\",\"space\":{JsonSerializer.Serialize(space.Name)}}}"));
            if (Gap(space, after, foreign) is { } gap)
            {
                await Write("gap", null, Encoding.UTF8.GetBytes($"{{\"kind\":\"gap\",\"why\":\"{gap}\"}}"));
            }
            for (; ; )
            {
                var next = news.Next(space.Name);
                var (messages, through) = receipts.After(space, after, Rows);
                foreach (var message in messages) await Write("receipt", message.Cursor, message.Json);
                if (through > after)
                {
                    after = through;
                    continue;
                }
                using var waiting = CancellationTokenSource.CreateLinkedTokenSource(ended.Token);
                bool quiet = await Task.WhenAny(next, Task.Delay(limits.Heartbeat, clock, waiting.Token)) != next;
                await waiting.CancelAsync();
                ended.Token.ThrowIfCancellationRequested();
                if (quiet && !keys.StillHolds(key)) return; // it was followed by another
                if (quiet) await response.BodyWriter.WriteAsync(":\n\n"u8.ToArray(), ended.Token);
            }
        }
        catch (Exception gone) when (gone is OperationCanceledException or IOException)
        {
        }
        finally
        {
            keys.Ended -= End;
        }

        async Task Write(string name, string? id, byte[] json)
        {
            // Cut off once the other side is gone.
            var result = await response.BodyWriter.WriteAsync(SseWriter.Event(name, id, json), ended.Token);
            if (result.IsCompleted) throw new IOException("The stream is closed.");
        }
    }
}
