using System.Buffers;
using Microsoft.AspNetCore.Http.Features;
using Rovett.Core.Wire;
using Rovett.Core.Wire.WebSockets;
using Rovett.Service.Limits;

namespace Rovett.Service.Live;

/// <summary>RFC 6455 on the upgraded stream, with our own framing, so that the bytes of a message are built once for
/// everybody.</summary>
public static class WebSocketTransport
{
    /// <summary>The subprotocol.</summary>
    public const string Subprotocol = "rovett.v1";

    /// <summary>Looks at the handshake (RFC 6455 §4.2.1).</summary>
    /// <exception cref="ProblemException">400 or 426.</exception>
    public static void CheckHandshake(HttpContext context)
    {
        var headers = context.Request.Headers;
        bool connects = IsExtendedConnect(context);
        if (!connects && context.Features.Get<IHttpUpgradeFeature>() is not { IsUpgradableRequest: true })
            throw new Problem(400, "not-upgradable", "Upgrade impossible",
                "The request is not HTTP/1.1 with 'Connection: Upgrade'.", "Behind a proxy, pass Upgrade and Connection on.").ToException();
        if (headers.SecWebSocketVersion != "13")
        {
            context.Response.Headers.SecWebSocketVersion = "13";
            throw new Problem(426, "websocket-version", "WebSocket version not supported", "Only version 13 (RFC 6455) is supported.",
                "Send 'Sec-WebSocket-Version: 13'.").ToException();
        }
        if (!connects && !FrameWriter.IsKey(headers.SecWebSocketKey))
            throw new Problem(400, "websocket-key", "Invalid WebSocket key", "Sec-WebSocket-Key is not 16 bytes in base64.",
                "Use a WebSocket library.").ToException();
    }

    /// <summary>A WebSocket over one stream of an HTTP/2 connection (RFC 8441).</summary>
    public static bool IsExtendedConnect(HttpContext context) =>
        context.Features.Get<IHttpExtendedConnectFeature>() is { IsExtendedConnect: true, Protocol: "websocket" };

    static async ValueTask<Stream> Accept(HttpContext context)
    {
        Connections.IsStream(context);
        var response = context.Response.Headers;
        bool connects = IsExtendedConnect(context);
        if (!connects)
        {
            response.Upgrade = "websocket";
            response.Connection = "Upgrade";
            response.SecWebSocketAccept = FrameWriter.Accept(context.Request.Headers.SecWebSocketKey);
        }
        if (context.Request.Headers.SecWebSocketProtocol.ToString().Split(',', StringSplitOptions.TrimEntries).Contains(Subprotocol))
        {
            response.SecWebSocketProtocol = Subprotocol;
        }
        return connects ? await context.Features.GetRequiredFeature<IHttpExtendedConnectFeature>().AcceptAsync()
            : await context.Features.GetRequiredFeature<IHttpUpgradeFeature>().UpgradeAsync();
    }

    /// <summary>Accepts the upgrade only to say why nobody is let in.</summary>
    public static async Task Refuse(HttpContext context, Problem problem)
    {
        await using var stream = await Accept(context);
        await Refuse(stream, problem);
    }

    static async Task Refuse(Stream stream, Problem problem)
    {
        try
        {
            await stream.WriteAsync(
                (byte[])[.. FrameWriter.Text(Messages.Refused(null, problem).Json),
                .. FrameWriter.Close(CloseCode.PolicyViolation, problem.Slug)]);
            await WaitForClose(stream);
        }
        catch (Exception error) when (IsGone(error))
        {
        }
    }

    /// <summary>Runs a session until either side ends it.</summary>
    public static Task Run(HttpContext context, LiveSession session, int maxMessageBytes) =>
        Run(context, null, session, new FrameReader(maxMessageBytes), default);

    // One method for both ways to begin: a second one that waits for it would take memory as long as the session lives.
    static async Task Run(HttpContext context, Stream? accepted, LiveSession session, FrameReader frames, ReadOnlyMemory<byte> first)
    {
        await using var stream = accepted ?? await Accept(context);
        var output = new StreamOutput(stream);
        var reading = Read(stream, session, output, frames, first);
        try
        {
            await session.Pump(output);
            if (!output.IsGone) await output.Write(FrameWriter.Close(output.CloseCode, output.CloseReason));
            if (!reading.IsCompleted) await Task.WhenAny(reading, Task.Delay(TimeSpan.FromSeconds(2), CancellationToken.None));
        }
        catch (Exception error) when (IsGone(error))
        {
        }
        if (!reading.IsCompleted) context.Abort(); // whatever is still being read ends with the connection
        await reading;
    }

    /// <summary>Accepts an upgrade that showed no credential.</summary>
    public static async Task<Opening> Open(HttpContext context, int maxMessageBytes) =>
        new(await Accept(context), new FrameReader(maxMessageBytes));

    /// <summary>A WebSocket that has not said whose it is.</summary>
    public sealed class Opening(Stream stream, FrameReader frames) : IAsyncDisposable
    {
        ReadOnlyMemory<byte> rest; // what came with the first message

        /// <summary>Waits for the first message, which must show a token.</summary>
        /// <param name="seal">Reads cursors.</param>
        /// <param name="within">For how long.</param>
        /// <param name="gone">The other side is gone.</param>
        /// <param name="putOut">It is no longer waited for.</param>
        /// <returns>The token; null when the other side is gone, or is not waited for.</returns>
        /// <exception cref="ProblemException">Nothing came in time, or something else did.</exception>
        public async Task<string?> FirstToken(CursorSeal seal, TimeSpan within, CancellationToken gone, CancellationToken putOut)
        {
            using var limit = CancellationTokenSource.CreateLinkedTokenSource(gone, putOut);
            limit.CancelAfter(within);
            var buffer = ArrayPool<byte>.Shared.Rent(4096);
            try
            {
                for (; ; )
                {
                    int count = await stream.ReadAsync(buffer, limit.Token);
                    if (count == 0) return null;
                    for (rest = buffer.AsMemory(0, count); ;)
                    {
                        var span = rest.Span;
                        var found = frames.Read(ref span);
                        rest = rest[^span.Length..];
                        if (found == FrameEvent.NeedMore) break;
                        if (found is FrameEvent.Ping or FrameEvent.Pong) continue;
                        if (found != FrameEvent.Text) return null;
                        var message = DeviceMessage.Parse(frames.Payload.ToArray(), seal);
                        frames.Release();
                        rest = rest.ToArray();
                        return message.Token
                            ?? throw (message.Problem ?? Missing("The first message was another one than renew.")).ToException();
                    }
                }
            }
            catch (OperationCanceledException)
            {
                return gone.IsCancellationRequested
                    || putOut.IsCancellationRequested
                    ? null
                    : throw Missing($"None came within {within.TotalSeconds:0} seconds.").ToException();
            }
            catch (Exception error) when (IsGone(error))
            {
                return null;
            }
            finally
            {
                ArrayPool<byte>.Shared.Return(buffer);
            }
        }

        static Problem Missing(string detail) =>
            new(401, "token-missing", "Credential missing", detail,
            "Send {\"kind\":\"renew\",\"token\":\"…\"} as the first message, or connect with a header or a ticket.");

        /// <summary>Says why it is not let in.</summary>
        public Task Refuse(Problem problem) => WebSocketTransport.Refuse(stream, problem);

        /// <summary>Runs its session until either side ends it.</summary>
        public Task Run(HttpContext context, LiveSession session) => WebSocketTransport.Run(context, stream, session, frames, rest);

        /// <inheritdoc/>
        public ValueTask DisposeAsync() => stream.DisposeAsync();
    }

    static async Task Read(Stream stream, LiveSession session, StreamOutput output, FrameReader frames, ReadOnlyMemory<byte> first)
    {
        try
        {
            if (!await TakeAll(first, frames, session, output)) return;
            for (; ; )
            {
#pragma warning disable CA2022 // reads nothing on purpose: it waits until there is something, and holds no buffer meanwhile
                await stream.ReadAsync(Memory<byte>.Empty);
#pragma warning restore CA2022
                var buffer = ArrayPool<byte>.Shared.Rent(4096);
                try
                {
                    int count = await stream.ReadAsync(buffer);
                    if (count == 0)
                    {
                        output.IsGone = true;
                        return;
                    }
                    session.HeardNow();
                    if (!await TakeAll(new ReadOnlyMemory<byte>(buffer, 0, count), frames, session, output)) return;
                }
                finally
                {
                    ArrayPool<byte>.Shared.Return(buffer);
                }
            }
        }
        catch (Exception error) when (IsGone(error))
        {
        }
        finally
        {
            frames.Release();
            session.Closed();
        }
    }

    /// <returns>False when nothing more is to be read.</returns>
    static async ValueTask<bool> TakeAll(ReadOnlyMemory<byte> at, FrameReader frames, LiveSession session, StreamOutput output)
    {
        for (; ; )
        {
            var span = at.Span;
            var found = frames.Read(ref span);
            at = at[^span.Length..];
            if (found == FrameEvent.NeedMore) return true;
            if (!await Take(found, frames, session, output)) return false;
        }
    }

    /// <returns>False when nothing more is to be read.</returns>
    static async ValueTask<bool> Take(FrameEvent found, FrameReader frames, LiveSession session, StreamOutput output)
    {
        switch (found)
        {
            case FrameEvent.Text:
                // Read slower, so that the device's own network holds it back.
                for (TimeSpan wait; (wait = session.TakeMessage()) > TimeSpan.Zero;) await Task.Delay(wait);
                var message = DeviceMessage.Parse(frames.Payload.ToArray(), session.Space.Cursors);
                if (message is { IsAboutTopic: true, Problem: null })
                {
                    await session.HandleTopic(message);
                    return true;
                }
                var answer = await session.Handle(message);
                return answer is null || session.Machine.Answer(answer);
            case FrameEvent.Ping:
                session.Machine.Raw(FrameWriter.Frame(Opcode.Pong, frames.Payload));
                return true;
            case FrameEvent.Pong:
                return true;
            case FrameEvent.Close:
                output.CloseCode = frames.Code == 1005 ? CloseCode.Normal : frames.Code;
                return false;
            default:
                output.CloseCode = frames.Code;
                output.CloseReason = frames.Reason;
                return false;
        }
    }

    static async Task WaitForClose(Stream stream)
    {
        using var limit = new CancellationTokenSource(TimeSpan.FromSeconds(2));
        var buffer = new byte[256];
        try
        {
            while (await stream.ReadAsync(buffer, limit.Token) > 0)
            {
            }
        }
        catch (Exception error) when (IsGone(error))
        {
        }
    }

    /// <summary>True for what a cut connection throws.</summary>
    internal static bool IsGone(Exception error) => error is IOException or OperationCanceledException or ObjectDisposedException
        // What the framework's own pipes throw when their other end was completed meanwhile.
        || (error is InvalidOperationException && error.Source is "System.IO.Pipelines" or "Microsoft.AspNetCore.Server.Kestrel.Core");

    sealed class StreamOutput(Stream stream) : ISessionOutput
    {
        /// <summary>The other side has closed its end: nobody reads what would be written.</summary>
        public bool IsGone { get; set; }
        public int CloseCode { get; set; } = Core.Wire.WebSockets.CloseCode.GoingAway;
        public string CloseReason { get; set; } = "";
        public ValueTask Write(ReadOnlyMemory<byte> bytes) => stream.WriteAsync(bytes);
    }
}
