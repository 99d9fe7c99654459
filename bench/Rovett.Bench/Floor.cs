using System.Net;
using System.Text;
using System.Threading.Channels;
using Microsoft.AspNetCore.Builder;
using Microsoft.AspNetCore.Hosting;
using Microsoft.AspNetCore.Http.Features;
using Microsoft.Extensions.Logging;
using Rovett.Core.Wire.Sse;
using Rovett.Core.Wire.WebSockets;

namespace Rovett.Bench;

/// <summary>What the framework and this machine allow when nothing is built on them: passes bytes on to everybody
/// connected, or to one, one bounded queue and one writer for each connection, what has queued up leaving in one write. Says first that a
/// connection is open. <c>/flood/N</c> is sent N messages at once.</summary>
static class Floor
{
    /// <param name="readyFile">Is written with the address once it listens.</param>
    /// <param name="duties">What it does besides; null: nothing.</param>
    public static async Task Run(string readyFile, Duties? duties)
    {
        var builder = WebApplication.CreateSlimBuilder();
        builder.Logging.ClearProviders();
        builder.WebHost.UseSockets(o => o.Backlog = 4096).ConfigureKestrel(o =>
        {
            o.AddServerHeader = false;
            o.Limits.MinResponseDataRate = null;
            o.Listen(IPAddress.Loopback, 0);
        });
        var app = builder.Build();
        var gate = new Lock();
        var connections = new List<Channel<byte[]>>();
        var named = new Dictionary<string, Channel<byte[]>>();
        var opening = Encoding.ASCII.GetBytes($$"""{"kind":"opened","session":"{{new string('x', 300)}}"}""");
        app.Run(async context =>
        {
            if (context.Request.Method == "POST")
            {
                var body = new MemoryStream();
                await context.Request.Body.CopyToAsync(body);
                var json = body.ToArray();
                byte[]? webSocket = null, sse = null;
                var path = context.Request.Path.Value!;
                if (duties is not null)
                {
                    var (frame, answer) = await duties.Take(context, json);
                    lock (gate) named[path[4..]].Writer.TryWrite(frame);
                    context.Response.StatusCode = 201;
                    context.Response.ContentLength = answer.Length;
                    await context.Response.Body.WriteAsync(answer);
                    return;
                }
                lock (gate)
                {
                    if (path.StartsWith("/one/", StringComparison.Ordinal)) named[path[4..]].Writer.TryWrite(FrameWriter.Text(json));
                    else foreach (var c in connections)
                    {
                        c.Writer.TryWrite(context.Request.Path == "/ws"
                            ? webSocket ??= FrameWriter.Text(json)
                            : sse ??= SseWriter.Event("notification", null, json));
                    }
                }
                context.Response.StatusCode = 202;
                return;
            }
            if (duties is not null) await duties.Verify(context);
            var queue = Channel.CreateBounded<byte[]>(1024);
            lock (gate) named[context.Request.Path.Value!] = queue;
            if (context.Features.Get<IHttpUpgradeFeature>() is { IsUpgradableRequest: true } upgrade)
            {
                context.Response.Headers.Upgrade = "websocket";
                context.Response.Headers.Connection = "Upgrade";
                context.Response.Headers.SecWebSocketAccept = FrameWriter.Accept(context.Request.Headers.SecWebSocketKey);
                await using var stream = await upgrade.UpgradeAsync();
                var reading = Task.Run(async () =>
                {
                    var buffer = new byte[4096];
                    try
                    {
                        while (await stream.ReadAsync(buffer) > 0)
                        {
                        }
                    }
                    catch (Exception gone) when (gone is IOException or OperationCanceledException)
                    {
                    }
                    queue.Writer.TryComplete();
                });
                queue.Writer.TryWrite(FrameWriter.Text(opening));
                if (context.Request.Path.StartsWithSegments("/flood", out var many))
                {
                    int count = int.Parse(many.Value![1..]);
                    await (duties is { Duty: Duty.Stores } ? duties.Flood(stream, count) : Flood(stream, count));
                }
                await Pump(queue, b => stream.WriteAsync(b));
                await reading;
            }
            else
            {
                context.Response.ContentType = "text/event-stream";
                await context.Response.StartAsync();
                queue.Writer.TryWrite(SseWriter.Event("opened", null, opening));
                await using var gone = context.RequestAborted.Register(() => queue.Writer.TryComplete());
                await Pump(queue, async b => await context.Response.BodyWriter.WriteAsync(b));
            }
        });
        static async Task Flood(Stream stream, int count)
        {
            var message = FrameWriter.Text(Encoding.ASCII.GetBytes(
                $$$"""{"kind":"notification","cursor":"0123456789012345678901","title":"{{{new string('x', 400)}}}"}"""));
            var joined = new byte[16384 / message.Length * message.Length];
            for (int at = 0; at < joined.Length; at += message.Length) message.CopyTo(joined, at);
            for (int left = count; left > 0; left -= joined.Length / message.Length)
            {
                await stream.WriteAsync(joined.AsMemory(0, Math.Min(left * message.Length, joined.Length)));
            }
        }
        async Task Pump(Channel<byte[]> queue, Func<ReadOnlyMemory<byte>, ValueTask> write)
        {
            lock (gate) connections.Add(queue);
            var joined = new byte[16384];
            try
            {
                while (await queue.Reader.WaitToReadAsync())
                {
                    int length = 0;
                    while (queue.Reader.TryPeek(out var next) && length + next.Length <= joined.Length && queue.Reader.TryRead(out next))
                    {
                        next.CopyTo(joined, length);
                        length += next.Length;
                    }
                    await write(joined.AsMemory(0, length));
                }
            }
            catch (Exception closed) when (closed is IOException or OperationCanceledException or InvalidOperationException)
            {
            }
            lock (gate) connections.Remove(queue);
        }
        await app.StartAsync();
        await File.WriteAllTextAsync(readyFile + ".part", app.Urls.First());
        File.Move(readyFile + ".part", readyFile);
        await Task.Delay(TimeSpan.FromMinutes(10)); // the caller ends it sooner
    }
}
