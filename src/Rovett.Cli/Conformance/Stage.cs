using System.Net.WebSockets;
using System.Text;
using System.Text.Json;
using System.Text.Json.Nodes;
using System.Threading.Channels;
using Microsoft.AspNetCore.Builder;
using Microsoft.AspNetCore.Hosting;
using Microsoft.AspNetCore.Http;
using Microsoft.Extensions.Logging;

namespace Rovett.Cli.Conformance;

/// <summary>A message from a client; posted ones are answered in their response.</summary>
sealed record Heard(JsonObject Message, TaskCompletionSource<JsonObject?>? Posted);

/// <summary>A client that asks to open a session, and waits for the answer.</summary>
sealed class Opening(string transport, IQueryCollection query, string token)
{
    public string Transport => transport;
    public string? After => query.TryGetValue("after", out var after) ? after.ToString() : null;
    public string Token => token;
    /// <summary>Null: let in. Otherwise the problem.</summary>
    public TaskCompletionSource<JsonObject?> Verdict { get; } = new(TaskCreationOptions.RunContinuationsAsynchronously);
    /// <summary>Its input.</summary>
    public Channel<string> Out { get; } = Channel.CreateUnbounded<string>();
    public CancellationTokenSource Over { get; } = new();
    public string Session { get; set; } = "";
    public (int Turn, string Answer) LastPoll { get; set; } = (-1, "");
}

/// <summary>Plays the service's part over one transport: the others are stripped, or held back.</summary>
sealed class Stage : IAsyncDisposable
{
    readonly WebApplication application;
    readonly string through;
    readonly Dictionary<string, Opening> sessions = [];
    readonly CancellationTokenSource closing = new();

    Stage(string through)
    {
        this.through = through;
        var builder = WebApplication.CreateSlimBuilder();
        builder.WebHost.UseUrls("http://127.0.0.1:0");
        builder.Logging.ClearProviders();
        application = builder.Build();
        application.UseWebSockets();
        application.MapGet("/v1/live", Open);
        application.MapGet("/v1/live/{session}", Poll);
        application.MapPost("/v1/live/{session}", Post);
    }

    public static async Task<Stage> Set(string through)
    {
        var stage = new Stage(through);
        await stage.application.StartAsync();
        return stage;
    }

    public Uri Url => new(application.Urls.Single());

    public Channel<Opening> Openings { get; } = Channel.CreateUnbounded<Opening>();

    public Channel<Heard> HeardMessages { get; } = Channel.CreateUnbounded<Heard>();

    async Task Open(HttpContext context)
    {
        var transport = context.WebSockets.IsWebSocketRequest
            ? "websocket"
            : context.Request.Headers.Accept.ToString().Contains("text/event-stream", StringComparison.Ordinal) ? "sse" : "long-poll";
        if (transport != through)
        {
            // As bad proxies do: the upgrade is stripped, a stream is held back.
            if (transport == "websocket") context.Response.StatusCode = 400;
            else
            {
                await Task.Delay(Timeout.Infinite,
                    CancellationTokenSource.CreateLinkedTokenSource(closing.Token, context.RequestAborted).Token)
                    .ContinueWith(static _ => { }, TaskScheduler.Default);
            }
            return;
        }
        var header = context.Request.Headers.Authorization.ToString();
        var token = header.StartsWith("Bearer ", StringComparison.Ordinal) ? header[7..] : context.Request.Query["ticket"].ToString();
        WebSocket? socket = null;
        if (transport == "websocket" && token.Length == 0)
        {
            socket = await context.WebSockets.AcceptWebSocketAsync(Subprotocol(context));
            token = (string?)(await Read(socket))?["token"] ?? "";
        }
        var opening = new Opening(transport, context.Request.Query, token);
        await Openings.Writer.WriteAsync(opening);
        using var over = CancellationTokenSource.CreateLinkedTokenSource(opening.Over.Token, closing.Token, context.RequestAborted);
        using var cut = opening.Over.Token.Register(context.Abort);
        try
        {
            var problem = await opening.Verdict.Task.WaitAsync(over.Token);
            if (problem is not null) await Refuse(context, socket, problem);
            else if (transport == "websocket")
            {
                await Converse(socket ?? await context.WebSockets.AcceptWebSocketAsync(Subprotocol(context)), opening, over.Token);
            }
            else if (transport == "sse") await Stream(context, opening, over.Token);
            else await AnswerPoll(context, opening, 0, over.Token);
        }
        catch (Exception error) when (error is OperationCanceledException or WebSocketException or IOException)
        {
        }
        finally
        {
            socket?.Dispose();
        }
    }

    static string? Subprotocol(HttpContext context) =>
        context.WebSockets.WebSocketRequestedProtocols.Contains("rovett.v1") ? "rovett.v1" : null;

    static async Task Refuse(HttpContext context, WebSocket? socket, JsonObject problem)
    {
        if (socket is not null)
        {
            await socket.SendAsync(
                Encoding.UTF8.GetBytes(new JsonObject { ["kind"] = "refused", ["problem"] = problem.DeepClone() }.ToJsonString()),
                WebSocketMessageType.Text, true, CancellationToken.None);
            await socket.CloseOutputAsync(WebSocketCloseStatus.PolicyViolation, null, CancellationToken.None);
            while ((await socket.ReceiveAsync(new byte[1024], CancellationToken.None)).MessageType != WebSocketMessageType.Close)
            {
            }
            return;
        }
        context.Response.StatusCode = (int)problem["status"]!;
        await context.Response.WriteAsJsonAsync(problem, (JsonSerializerOptions?)null, "application/problem+json");
    }

    async Task Converse(WebSocket socket, Opening opening, CancellationToken over)
    {
        var reading = Task.Run(async () =>
        {
            while (await Read(socket) is { } message) await HeardMessages.Writer.WriteAsync(new Heard(message, null));
            opening.Out.Writer.TryComplete();
        }, over);
        await foreach (var message in opening.Out.Reader.ReadAllAsync(over))
        {
            await socket.SendAsync(Encoding.UTF8.GetBytes(message), WebSocketMessageType.Text, true, over);
        }
        if (socket.State is WebSocketState.Open or WebSocketState.CloseReceived)
        {
            await socket.CloseOutputAsync(WebSocketCloseStatus.EndpointUnavailable, null, over);
        }
        await reading.WaitAsync(TimeSpan.FromSeconds(2), over).ContinueWith(static t => _ = t.Exception, TaskScheduler.Default);
    }

    static async Task<JsonObject?> Read(WebSocket socket)
    {
        var (buffer, count) = (new byte[64 * 1024], 0);
        for (; ; )
        {
            ValueWebSocketReceiveResult result;
            try
            {
                result = await socket.ReceiveAsync(buffer.AsMemory(count), CancellationToken.None);
            }
            catch (Exception error) when (error is WebSocketException or IOException or OperationCanceledException
                or ObjectDisposedException)
            {
                return null;
            }
            if (result.MessageType == WebSocketMessageType.Close) return null;
            count += result.Count;
            if (result.EndOfMessage) return JsonNode.Parse(buffer.AsSpan(0, count))!.AsObject();
        }
    }

    static async Task Stream(HttpContext context, Opening opening, CancellationToken over)
    {
        context.Response.ContentType = "text/event-stream";
        await context.Response.WriteAsync(": held by the conformance kit\n\n", over);
        await foreach (var message in opening.Out.Reader.ReadAllAsync(over))
        {
            var node = JsonNode.Parse(message)!;
            var id = node["cursor"] is { } cursor ? $"id: {cursor}\n" : "";
            await context.Response.WriteAsync($"event: {node["kind"]}\n{id}data: {message}\n\n", over);
            await context.Response.Body.FlushAsync(over);
        }
    }

    async Task Poll(HttpContext context)
    {
        if (!sessions.TryGetValue((string)context.Request.RouteValues["session"]!, out var opening) || opening.Over.IsCancellationRequested)
        {
            context.Response.StatusCode = 404;
            return;
        }
        using var over = CancellationTokenSource.CreateLinkedTokenSource(opening.Over.Token, closing.Token, context.RequestAborted);
        using var cut = opening.Over.Token.Register(context.Abort);
        try
        {
            await AnswerPoll(context, opening, int.Parse(context.Request.Query["turn"].ToString()), over.Token);
        }
        catch (OperationCanceledException)
        {
        }
    }

    static async Task AnswerPoll(HttpContext context, Opening opening, int turn, CancellationToken over)
    {
        if (turn != opening.LastPoll.Turn)
        {
            var messages = new List<string>();
            if (await opening.Out.Reader.WaitToReadAsync(over))
            {
                while (opening.Out.Reader.TryRead(out var message)) messages.Add(message);
            }
            opening.LastPoll = (turn, $"[{string.Join(',', messages)}]");
        }
        context.Response.ContentType = "application/json";
        await context.Response.WriteAsync(opening.LastPoll.Answer, over);
    }

    async Task Post(HttpContext context)
    {
        if (!sessions.TryGetValue((string)context.Request.RouteValues["session"]!, out var opening) || opening.Over.IsCancellationRequested)
        {
            context.Response.StatusCode = 404;
            return;
        }
        var body = await JsonNode.ParseAsync(context.Request.Body);
        var answers = new JsonArray();
        foreach (var message in body as JsonArray ?? [body])
        {
            var heard = new Heard(message!.DeepClone().AsObject(),
                new TaskCompletionSource<JsonObject?>(TaskCreationOptions.RunContinuationsAsynchronously));
            await HeardMessages.Writer.WriteAsync(heard);
            if (await heard.Posted!.Task.WaitAsync(closing.Token) is { } answer) answers.Add(answer.DeepClone());
        }
        if (answers.Count == 0) context.Response.StatusCode = 204;
        else await context.Response.WriteAsJsonAsync(answers);
    }

    /// <summary>Says a message to a client that was let in.</summary>
    public void Say(Opening to, JsonObject message)
    {
        if ((string?)message["kind"] == "opened")
        {
            message["transport"] = through;
            sessions[to.Session = (string)message["session"]!] = to;
        }
        to.Verdict.TrySetResult(null);
        to.Out.Writer.TryWrite(message.ToJsonString());
    }

    public async ValueTask DisposeAsync()
    {
        await closing.CancelAsync();
        await application.StopAsync(new CancellationToken(canceled: true));
        await application.DisposeAsync();
        closing.Dispose();
    }
}
