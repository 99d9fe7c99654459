using System.Net;
using System.Threading.Channels;
using Microsoft.AspNetCore.Builder;
using Microsoft.AspNetCore.Hosting;
using Microsoft.AspNetCore.Http.Features;
using Microsoft.Extensions.Logging;
using Rovett.Core.Wire.Sse;
using Rovett.Core.Wire.WebSockets;

namespace Rovett.Bench;

/// <summary>What the framework and this machine allow when nothing is built on them: passes bytes on to everybody
/// connected, one bounded queue and one writer for each connection, what has queued up leaving in one write.</summary>
static class Floor
{
    public static async Task Run(string readyFile)
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
        app.Run(async context =>
        {
            if (context.Request.Method == "POST")
            {
                var body = new MemoryStream();
                await context.Request.Body.CopyToAsync(body);
                var json = body.ToArray();
                byte[]? webSocket = null, sse = null;
                lock (gate)
                {
                    foreach (var c in connections)
                    {
                        c.Writer.TryWrite(context.Request.Path == "/ws"
                            ? webSocket ??= FrameWriter.Text(json)
                            : sse ??= SseWriter.Event("notification", null, json));
                    }
                }
                context.Response.StatusCode = 202;
                return;
            }
            var queue = Channel.CreateBounded<byte[]>(1024);
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
                await Pump(queue, b => stream.WriteAsync(b));
                await reading;
            }
            else
            {
                context.Response.ContentType = "text/event-stream";
                await context.Response.StartAsync();
                await using var gone = context.RequestAborted.Register(() => queue.Writer.TryComplete());
                await Pump(queue, async b => await context.Response.BodyWriter.WriteAsync(b));
            }
        });
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
