using System.IO.Pipelines;
using Microsoft.AspNetCore.Http.Features;
using Rovett.Service.Limits;

namespace Rovett.Service.Live;

/// <summary>Server-sent events (WHATWG HTML §9.2) on the response stream.</summary>
public static class SseTransport
{
    /// <summary>Runs a session until either side ends it.</summary>
    public static async Task Run(HttpContext context, LiveSession session)
    {
        Connections.IsStream(context);
        var response = context.Response;
        response.ContentType = "text/event-stream";
        response.Headers.CacheControl = "no-cache";
        response.Headers["X-Accel-Buffering"] = "no";
        context.Features.Get<IHttpResponseBodyFeature>()?.DisableBuffering();
        await response.StartAsync();
        await using var gone = context.RequestAborted.UnsafeRegister(static s => ((LiveSession)s!).Closed(), session);
        try
        {
            await session.Pump(new PipeOutput(response.BodyWriter));
        }
        catch (Exception error) when (WebSocketTransport.IsGone(error))
        {
        }
    }

    sealed class PipeOutput(PipeWriter writer) : ISessionOutput
    {
        public async ValueTask Write(ReadOnlyMemory<byte> bytes)
        {
            var result = await writer.WriteAsync(bytes);
            if (result.IsCompleted || result.IsCanceled) throw new IOException("The stream is closed.");
        }
    }
}
