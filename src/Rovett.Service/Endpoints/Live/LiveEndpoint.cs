using System.Globalization;
using System.Net;
using System.Runtime.InteropServices;
using System.Text.Json;
using Microsoft.AspNetCore.Http.Features;
using Rovett.Core.Addresses;
using Rovett.Core.Wire;
using Rovett.Service.Audit;
using Rovett.Service.Cluster;
using Rovett.Service.Credentials;
using Rovett.Service.Http;
using Rovett.Service.Ledgers;
using Rovett.Service.Limits;
using Rovett.Service.Live;
using Rovett.Service.Options;
using Rovett.Service.Spaces;

namespace Rovett.Service.Endpoints.Live;

/// <summary><c>/v1/live</c>: lets devices in and hands them to their transport, and takes what a device posts beside
/// its stream.</summary>
public sealed class LiveEndpoint(LiveServices services, SpaceDirectory spaces, Tokens tokens, Tickets tickets, Origins origins,
    SessionRegistry registry, ConnectionTurns turns, RovettOptions options)
{
    const int MaxPosted = 100, MostTries = 4;

    /// <summary>Opens a live session.</summary>
    /// <remarks>By WebSocket (with an upgrade), server-sent events or long poll, as the request asks. The messages are
    /// described by the AsyncAPI document.</remarks>
    public Task Connect(HttpContext context) => Open(context).Unwrap(); // Open is over once there is a session

    async Task<Task> Open(HttpContext context)
    {
        var origin = origins.Require(context);
        var space = spaces.Of(context);
        bool upgrade = context.Request.Headers.Upgrade.ToString().Equals("websocket", StringComparison.OrdinalIgnoreCase)
            || WebSocketTransport.IsExtendedConnect(context);
        var transport = upgrade ? TransportKind.WebSocket : AcceptsArray(context) ? TransportKind.LongPoll : TransportKind.Sse;
        if (upgrade && services.Switches is { } faults && faults.BlocksWebSocket(context.Request.Query["device"].ToString()))
        {
            context.Response.StatusCode = 400; // and not why: as a proxy would
            return Task.CompletedTask;
        }
        if (upgrade) WebSocketTransport.CheckHandshake(context);
        else if (transport == TransportKind.Sse && !AcceptsEvents(context))
        {
            throw new Problem(406, "no-transport", "No transport requested",
                "The request asks for neither WebSocket, server-sent events nor long poll.",
                "Send 'Accept: text/event-stream', 'Accept: application/json' for long poll, or an RFC 6455 upgrade. Behind a proxy: it " +
                "may have stripped the upgrade.").ToException();
        }
        if (registry.Closing)
        {
            throw new Problem(503, "shutting-down", "Shutting down", "The service accepts no new sessions.", "Try again shortly.")
            { RetryAfterSeconds = 1 }.ToException();
        }

        if (upgrade && Bearer.Of(context) is null && !context.Request.Query.ContainsKey("ticket"))
        {
            return await OpenByFirstMessage(context, space, origin);
        }
        LiveSession session;
        try
        {
            session = await Admit(context, space, origin, transport, Bearer.Of(context));
        }
        catch (ProblemException refused) when (upgrade && context.Request.Query.ContainsKey("ticket"))
        {
            // A browser can't read why an upgrade was refused: accept, say it, close.
            using var place = services.Limits.EnterRefused(AddressOf(context), context.Abort);
            if (place is null) throw;
            await WebSocketTransport.Refuse(context, refused.Problem);
            return Task.CompletedTask;
        }
        catch (ProblemException refused) when (transport == TransportKind.Sse && refused.Problem.Slug == "ticket-ended")
        {
            context.Response.StatusCode = 204; // an EventSource stops coming back
            context.Response.ContentLength = null;
            context.Response.ContentType = "text/event-stream";
            return Task.CompletedTask;
        }
        LetGo(context);
        if (session.Poll is not { } poll) return Run(session, context, null);
        _ = Polled(session, poll); // it outlives this request
        return Poll(context, session, poll, 0);
    }

    /// <summary>Drops the parts of a request that are no longer needed and would stay in memory as long as the session.</summary>
    static void LetGo(HttpContext context)
    {
        context.Features.Set<IQueryFeature>(null);
        context.Request.Headers.Authorization = default;
    }

    async Task Polled(LiveSession session, PollTransport poll)
    {
        try
        {
            await Run(session, null, null);
        }
        catch (Exception error)
        {
            services.Faults.Thrown(session.Space.Name, "polled session", error);
            poll.Cut();
        }
    }

    /// <summary>Polls a session.</summary>
    /// <remarks>Answers the messages since the answer before, as soon as there are any.</remarks>
    public async Task Poll(HttpContext context)
    {
        var session = await Find(context);
        if (session.Poll is not { } poll)
        {
            throw new Problem(409, "not-polled", "Not a long-poll session", "The session was opened as a stream.",
                "Read the stream, or open a session with 'Accept: application/json'.").ToException();
        }
        if (!int.TryParse(context.Request.Query["turn"], NumberStyles.None, CultureInfo.InvariantCulture, out int turn))
        {
            throw Problem.Invalid(
                [new FieldError("turn", "must be a number: 1 for the first request after the session was opened, then one more each time")],
                "Correct the named query parameter.").ToException();
        }
        await Poll(context, session, poll, turn);
    }

    static async Task Poll(HttpContext context, LiveSession session, PollTransport poll, int turn)
    {
        var wait = WaitOf(context);
        session.HeardNow();
        if (await poll.Take(turn, wait, context.RequestAborted) is not { } messages) throw UnknownSession().ToException();
        context.Response.Headers["Preference-Applied"] = string.Create(CultureInfo.InvariantCulture, $"wait={(int)wait.TotalSeconds}");
        context.Response.Headers.CacheControl = "no-store";
        context.Response.ContentType = "application/json";
        context.Response.ContentLength = messages.Length;
        await context.Response.BodyWriter.WriteAsync(messages);
    }

    /// <summary>How long the request would wait (RFC 7240 §4.3); what is no such preference is ignored, as that says.</summary>
    static TimeSpan WaitOf(HttpContext context)
    {
        foreach (var part in context.Request.Headers["Prefer"].ToString().Split([',', ';'], StringSplitOptions.TrimEntries))
        {
            if (part.StartsWith("wait=", StringComparison.OrdinalIgnoreCase)
                && int.TryParse(part.AsSpan(5), NumberStyles.None, CultureInfo.InvariantCulture, out int seconds))
                return TimeSpan.FromSeconds(Math.Min(seconds, (int)PollTransport.LongestWait.TotalSeconds));
        }
        return PollTransport.UsualWait;
    }

    /// <param name="session">The session.</param>
    /// <param name="context">The request of its connection; null when it is polled.</param>
    /// <param name="opening">Its WebSocket, when that is open already.</param>
    async Task Run(LiveSession session, HttpContext? context, WebSocketTransport.Opening? opening)
    {
        registry.Add(session);
        if (!tokens.StillHolds(session.Space, session.Credential)) session.End("signing-key-removed", null); // while it was let in
        try
        {
            await (session.Poll?.Run(session) ?? opening?.Run(context!, session) ?? (session.Transport == TransportKind.WebSocket
                ? WebSocketTransport.Run(context!, session, options.MaxMessageBytes) : SseTransport.Run(context!, session)));
        }
        catch (ProblemException)
        {
            session.Cut(); // the ledger takes no more commands now, or the space was removed: the device comes back or is told then
        }
        catch (Exception error)
        {
            services.Faults.Thrown(session.Space.Name, "session", error);
            session.Cut();
        }
        finally
        {
            registry.Remove(session);
            await session.Detach();
        }
    }

    /// <summary>A WebSocket without a credential: its first message must show one, soon. Few of them wait at a time.</summary>
    async Task<Task> OpenByFirstMessage(HttpContext context, SpaceRuntime space, string? origin)
    {
        using var putOut = new CancellationTokenSource();
        using var waits = services.Limits.EnterUnauthenticated(AddressOf(context), () => PutOut(putOut));
        var opening = await WebSocketTransport.Open(context, options.MaxMessageBytes);
        bool runs = false;
        try
        {
            ConnectionTurns.End(context);
            var token = await opening.FirstToken(space.Cursors, TimeSpan.FromSeconds(options.HandshakeSeconds), context.RequestAborted,
                putOut.Token);
            if (token is null)
            {
                if (putOut.IsCancellationRequested) await Refuse(context, opening, services.Limits.TooManyUnauthenticated());
                return Task.CompletedTask; // it is gone
            }
            using var turn = await turns.Begin();
            var session = await Admit(context, space, origin, TransportKind.WebSocket, token);
            LetGo(context);
            runs = true;
            return Run(session, context, opening);
        }
        catch (ProblemException refused)
        {
            waits.Dispose();
            await Refuse(context, opening, refused.Problem);
        }
        catch (Exception failed) when (LedgerPump.IsStoreFailure(failed))
        {
            waits.Dispose();
            await Refuse(context, opening, LedgerPump.StoreFailed(failed));
        }
        finally
        {
            if (!runs) await opening.DisposeAsync();
        }
        return Task.CompletedTask;
    }

    static void PutOut(CancellationTokenSource waiting)
    {
        try
        {
            waiting.Cancel();
        }
        catch (ObjectDisposedException)
        {
            // It has just said whose it is.
        }
    }

    /// <summary>Says why, if it can be said without much being kept for it.</summary>
    async Task Refuse(HttpContext context, WebSocketTransport.Opening opening, Problem problem)
    {
        using var place = services.Limits.EnterRefused(AddressOf(context), context.Abort);
        if (place is null) context.Abort();
        else await opening.Refuse(problem);
    }

    async Task<LiveSession> Admit(HttpContext context, SpaceRuntime space, string? origin, TransportKind transport, string? token)
    {
        var query = context.Request.Query;
        var errors = new List<FieldError>();
        string? Name(string field)
        {
            if (!query.TryGetValue(field, out var value)) return null;
            string name;
            if ((field == "label" ? Names.CheckLabel(value.ToString(), allowSlash: true, out name)
                : Names.Check(value.ToString(), allowSlash: false, out name)) is { } wrong)
            {
                errors.Add(new FieldError(field, wrong));
            }
            return name;
        }
        var device = Name("device");
        var label = Name("label");
        if (query.TryGetValue("heartbeat", out var heartbeat) && heartbeat != "event")
        {
            errors.Add(new FieldError("heartbeat", "must be event, or left out"));
        }
        if (query.TryGetValue("reopens", out var reopens) && reopens != "true")
        {
            errors.Add(new FieldError("reopens", "must be true, or left out"));
        }
        long? after = null;
        bool foreign = false;
        // An EventSource repeats its URL when it comes back, so what it last saw beats what the URL says.
        var header = context.Request.Headers["Last-Event-ID"].ToString();
        var cursor = header.Length > 0 ? header : query["after"].ToString();
        if (cursor == "now") after = long.MaxValue;
        else if (cursor.Length > 0)
        {
            var state = space.Cursors.Open(cursor, out var position);
            if (state == CursorState.Malformed)
            {
                errors.Add(new FieldError(header.Length > 0 ? "Last-Event-ID" : "after",
                    $"is not a cursor; pass on one that came in a message ({CursorSeal.Length} characters), or now"));
            }
            else if (state == CursorState.Foreign) foreign = true;
            else after = position.Value;
        }
        if (errors.Count > 0) throw Problem.Invalid(errors, "Correct the named query parameters.").ToException();

        var linked = context.Features.Get<LinkedSpace>();
        ISessionSide Side() => linked is null ? new HereSide(services)
            : new LinkedSide(services, linked.Link, AddressOf(context));
        Credential credential;
        string? opened = null;
        if (token is not null) credential = await Side().Check(token, space);
        else if (query.TryGetValue("ticket", out var ticket))
        {
            (credential, device) = await tickets.Open(opened = ticket.ToString(), space.Name, device, origin,
                comesBack: transport != TransportKind.WebSocket);
        }
        else
        {
            throw new Problem(401, "token-missing", "Credential missing", "A live session needs a token or a ticket.",
                "Send 'Authorization: Bearer <token>', or ?ticket= with a ticket from POST /v1/tickets where headers can't be set.")
                .ToException();
        }

        device ??= "unnamed-" + Secrets.NewId();
        for (int tries = 1; ; tries++)
        {
            // The node that serves the space counts all its sessions.
            var place = linked is not null ? UsageLimits.NoPlace
                : services.Limits.EnterSession(space, credential.Identity.User.Value, AddressOf(context));
            var session = new LiveSession(services, Side(), place, space, credential, opened, device, label, transport,
                heartbeat == "event")
            {
                Tried = TriedHints.Read(query["tried"]),
                Reopens = LiveRequests.Reopens(context.Request),
                Address = AddressOf(context),
                Request = transport == TransportKind.LongPoll ? null : context,
                Poll = transport == TransportKind.LongPoll ? new PollTransport(services.Clock) : null,
            };
            try
            {
                await session.Attach(after, foreign);
                Connections.Keep(context);
                return session;
            }
            // A session that may have been let in by a node that is not reached any more is nobody's.
            catch (ProblemException moved) when (linked is not null && tries < MostTries
                && moved.Problem.Slug is "space-moved" or "outcome-unknown")
            {
                await session.Detach();
                linked = await linked.Anew();
            }
            catch (ProblemException earlier) when (linked is not null && token is not null && tries < MostTries
                && earlier.Problem.Slug == ISessionSide.ReadForEarlierPolicies)
            {
                await session.Detach();
                credential = await Side().Check(token, space, whereServed: true);
            }
            catch
            {
                await session.Detach();
                throw;
            }
        }
    }

    // HttpContext.Connection would be made for this, and stay in memory as long as the session.
    static IPAddress? AddressOf(HttpContext context) => context.Features.Get<IHttpConnectionFeature>()?.RemoteIpAddress;

    static bool AcceptsEvents(HttpContext context)
    {
        var accept = context.Request.Headers.Accept.ToString();
        return accept.Length == 0 || accept.Contains("text/event-stream", StringComparison.OrdinalIgnoreCase)
            || accept.Contains("*/*", StringComparison.Ordinal) || accept.Contains("text/*", StringComparison.Ordinal);
    }

    static bool AcceptsArray(HttpContext context)
    {
        var accept = context.Request.Headers.Accept.ToString();
        return accept.Contains("application/json", StringComparison.OrdinalIgnoreCase)
            && !accept.Contains("text/event-stream", StringComparison.OrdinalIgnoreCase);
    }

    static Problem UnknownSession() =>
        new(404, "unknown-session", "No such session", "This user has no live session with this id; it may have ended.",
        "Open a new session with the newest cursor, and use the id of its 'opened' message.");

    /// <summary>The session that the path names, for the user it belongs to.</summary>
    async ValueTask<LiveSession> Find(HttpContext context)
    {
        var origin = origins.Require(context);
        var space = spaces.Of(context);
        var session = registry.Find((string)context.Request.RouteValues["session"]!) as LiveSession;
        Credential credential;
        bool its = true;
        // The token that the session was opened with was checked then, and the session ends with it.
        if (Bearer.Of(context) is { } token) credential = session?.CredentialOf(token, space) ?? await tokens.Check(token, space);
        else if (context.Request.Query.TryGetValue("ticket", out var ticket))
        {
            credential = await tickets.Opened(ticket.ToString(), space.Name, origin);
            its = session?.IsOpenedBy(ticket.ToString()) == true; // a ticket is one stream's
        }
        else
        {
            throw new Problem(401, "token-missing", "Credential missing", "The message has no credential.",
                "Send the credential that the session was opened with.").ToException();
        }
        if (session is null || !its || session.Space != space || session.User != credential.Identity.User.Value || session.Machine is null)
        {
            throw UnknownSession().ToException();
        }
        return session;
    }

    /// <summary>Sends messages of a device.</summary>
    /// <remarks>Beside a stream or a long poll: acknowledgements, marks, subscriptions.</remarks>
    public async Task Post(HttpContext context)
    {
        var session = await Find(context);
        var space = session.Space;
        TakeMessages(session, 0); // refused before its body is read
        using var body = await Json.Read(context);
        var root = body.RootElement;
        if (root.ValueKind == JsonValueKind.Array && root.GetArrayLength() > MaxPosted)
        {
            throw Problem.Invalid([new FieldError("(body)", $"contains {root.GetArrayLength()} messages; the limit is {MaxPosted}")])
                .ToException();
        }
        TakeMessages(session, root.ValueKind == JsonValueKind.Array ? Math.Max(1, root.GetArrayLength()) : 1);
        var answers = new List<ControlMessage>();
        foreach (var element in root.ValueKind == JsonValueKind.Array ? root.EnumerateArray().ToArray() : [root])
        {
            var message = DeviceMessage.Parse(element, space.Cursors);
            if (!session.IsServedHere || session.Stays) message.Raw = JsonMarshal.GetRawUtf8Value(element).ToArray();
            if (await session.Handle(message) is { } answer) answers.Add(answer);
        }
        if (answers.Count == 0)
        {
            context.Response.StatusCode = 204;
            return;
        }
        int status = answers.Any(a => a.Kind == "refused") ? 422 : 200;
        await Json.Write(context, status, json =>
        {
            json.WriteStartArray();
            foreach (var answer in answers) json.WriteRawValue(answer.Json);
            json.WriteEndArray();
        });
    }

    void TakeMessages(LiveSession session, int count)
    {
        if (session.TakeMessages(count) is var wait && wait > TimeSpan.Zero)
            throw new Problem(429, "too-many-messages", "Too many messages",
                $"The limit is {options.MessagesPerSecond} a second for one session; each message of a request counts.",
                "Send slower; one acknowledgement with 'upTo' replaces many.")
            { RetryAfterSeconds = Math.Max(1, (int)Math.Ceiling(wait.TotalSeconds)) }.ToException();
    }
}
