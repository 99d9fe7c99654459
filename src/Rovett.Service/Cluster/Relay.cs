using System.Net;
using Microsoft.AspNetCore.Http.Features;
using Rovett.Core.Ledgers;
using Rovett.Service.Http;
using Rovett.Service.Limits;
using Rovett.Service.Spaces;
using Rovett.Service.Tls;
using Yarp.ReverseProxy.Forwarder;

namespace Rovett.Service.Cluster;

/// <summary>Passes a request on to the node that serves its space, whatever it is: a call, a stream, a WebSocket. While nobody serves the
/// space it waits a little.</summary>
sealed class Relay : IDisposable
{
    /// <summary>How long a request waits for a space that is being taken.</summary>
    internal static readonly TimeSpan Patience = TimeSpan.FromSeconds(6);

    internal static readonly TimeSpan LookAgain = TimeSpan.FromMilliseconds(250);

    static readonly Task Never = new TaskCompletionSource().Task;

    static readonly TimeSpan
        // Between two attempts to reach a node that refuses connections.
        Pause = TimeSpan.FromMilliseconds(20),
        // Streams are silent between two heartbeats.
        Silence = TimeSpan.FromMinutes(30);

    readonly Nodes nodes;
    readonly NodeIdentity me;
    readonly SpaceDirectory spaces;
    readonly IHttpForwarder forwarder;
    readonly LinkPool links;
    readonly HttpMessageInvoker client;
    static readonly ForwarderRequestConfig Config = new()
    { Version = HttpVersion.Version11, VersionPolicy = HttpVersionPolicy.RequestVersionExact, ActivityTimeout = Silence };

    public Relay(Nodes nodes, NodeIdentity me, SpaceDirectory spaces, IHttpForwarder forwarder, NodeConnections connections, LinkPool links)
    {
        (this.nodes, this.me, this.spaces, this.forwarder, this.links) = (nodes, me, spaces, forwarder, links);
        client = new HttpMessageInvoker(connections.Handler());
    }

    /// <summary>Answers a request here, or passes it on.</summary>
    public async Task Invoke(HttpContext context, RequestDelegate next)
    {
        var door = NodeDoor.Of(context);
        if (door is not null && !door.Enter(context))
        {
            await Problems.Write(context, new Problem(403, "not-a-node", "Not a node",
                "This address is for the nodes of the cluster.", "Use the service's own address."));
            return;
        }
        if (SpaceOf(context.Request) is not { } name)
        {
            await next(context);
            return;
        }
        if (LiveRequests.SessionOf(context.Request) is { } session)
        {
            // It goes to the node that has the session, whoever serves its space.
            if (nodes.HolderOf(session) is not { } holder || holder.Url == nodes.Name || NodeDoor.Hops(context) >= NodeDoor.MostHops)
                await next(context);
            else if (nodes.IsLost(holder)) await Problems.Write(context, CutOff(holder));
            else if (!await Forward(context, holder)) await Problems.Write(context, Unserved());
            return;
        }
        long began = Environment.TickCount64;
        bool looked = false;
        for (; ; )
        {
            var changed = nodes.Changed;
            if (spaces.Find(name) is { } space && nodes.IsHere(space))
            {
                using var use = space.Use();
                // When the space moves, streams end, except sessions that stay.
                using var over = LiveRequests.IsOpening(context.Request) && LiveRequests.Reopens(context.Request) ? default
                    : nodes.PlaceOf(name)?.Over.UnsafeRegister(static c => ((HttpContext)c!).Abort(), context);
                await next(context);
                return;
            }
            var place = nodes.PlaceOf(name);
            if (place is null && looked)
            {
                await next(context); // answers that there is no such space
                return;
            }
            bool isElsewhere = place?.Url is { } url && url != nodes.Name;
            if (isElsewhere)
            {
                if (NodeDoor.Hops(context) >= NodeDoor.MostHops) break;
                if (nodes.IsLost(place!))
                {
                    await Problems.Write(context, CutOff(place!));
                    return;
                }
                if (LiveRequests.IsOpening(context.Request) && spaces.Find(name) is { } known && await links.To(place!) is { } link)
                {
                    context.Features.Set(Linked(known, link));
                    await next(context);
                    return;
                }
                if (await Forward(context, place!)) return;
                nodes.Suspect();
                await Wait(Never, Pause, context.RequestAborted);
            }
            else if (place is not null) nodes.Need(name);
            var left = Patience - TimeSpan.FromMilliseconds(Environment.TickCount64 - began);
            if (left <= TimeSpan.Zero || context.RequestAborted.IsCancellationRequested) break;
            if (place is null)
            {
                looked = true;
                await nodes.LookNow();
            }
            else await Wait(changed, left < LookAgain ? left : LookAgain, context.RequestAborted);
        }
        if (context.RequestAborted.IsCancellationRequested) return;
        await Problems.Write(context, Unserved());
    }

    internal static async Task Wait(Task changed, TimeSpan atMost, CancellationToken aborted)
    {
        try
        {
            await changed.WaitAsync(atMost, aborted);
        }
        catch (Exception error) when (error is TimeoutException or OperationCanceledException)
        {
            // It is looked again, or nobody waits any more.
        }
    }

    LinkedSpace Linked(SpaceRuntime space, HoldingLink link) => new(link, async () =>
    {
        if (nodes.PlaceOf(space.Name) is { } now && now.Url != nodes.Name && await links.To(now) is { } other) return Linked(space, other);
        return await nodes.Serves(space) ? null : throw Ledger.Moved(space.Name).ToException();
    });

    /// <returns>False when nothing of it has reached the node, so that it may be passed on again.</returns>
    async Task<bool> Forward(HttpContext context, Place place)
    {
        using var end = CancellationTokenSource.CreateLinkedTokenSource(context.RequestAborted, place.Over, nodes.LossOf(place));
        var toNode = new ToNode(me, NodeDoor.Hops(context) + 1);
        return BriefCommand.Is(context.Request) ? await ForwardBrief(context, place, toNode, end.Token)
            : await ForwardAny(context, place, toNode, end.Token);
    }

    async Task<bool> ForwardBrief(HttpContext context, Place place, ToNode toNode, CancellationToken end)
    {
        var command = await BriefCommand.Read(context);
        try
        {
            await command.Send(place.Url!, client, toNode, end);
            return true;
        }
        catch (Exception error) when (error is HttpRequestException or IOException or OperationCanceledException)
        {
            if (context.RequestAborted.IsCancellationRequested) return true;
            if (context.Response.HasStarted)
            {
                context.Abort();
                return true;
            }
            context.Response.Clear();
            if (!command.WasSent) return false;
            await Problems.Write(context, OutcomeUnknown());
            return true;
        }
    }

    async Task<bool> ForwardAny(HttpContext context, Place place, ToNode toNode, CancellationToken end)
    {
        var asked = context.Request.Body;
        var body = new WatchedBody(asked);
        context.Request.Body = body;
        Connections.IsStream(context); // bounds for its reader are the other node's
        if (context.Request.Headers.Upgrade.Count > 0 || context.Request.Headers.Accept.Contains("text/event-stream"))
            Connections.Keep(context);
        var error = await forwarder.SendAsync(context, place.Url!, client, Config, toNode, end);
        context.Request.Body = asked; // it may be answered here yet
        if (error == ForwarderError.None || context.Response.HasStarted || context.RequestAborted.IsCancellationRequested)
        {
            // What has begun can't be answered otherwise: the other side sees that it breaks off.
            if (error != ForwarderError.None) context.Abort();
            return true;
        }
        context.Response.Clear();
        bool isUntold = !body.WasRead && context.GetForwarderErrorFeature()?.Exception is HttpRequestException
        {
            HttpRequestError: HttpRequestError.ConnectionError or HttpRequestError.SecureConnectionError
            or HttpRequestError.NameResolutionError
        };
        if (isUntold || HttpMethods.IsGet(context.Request.Method) || HttpMethods.IsHead(context.Request.Method)) return false;
        await Problems.Write(context, OutcomeUnknown());
        return true;
    }

    static Problem Unserved() =>
        new(503, "space-unserved", "Space is not served now",
        "No node serves the space at this moment; nothing of this request was stored.",
        "Try again. If it persists, 'rovett cluster list' shows the nodes, and their logs why none takes the space.")
        { RetryAfterSeconds = 1 };

    static Problem CutOff(Place from) =>
        new(503, "node-cut-off", "This node can't reach others",
        $"It can't reach {from.Url}, which has to answer this request; nothing of it was stored.",
        "Try again through another node, and check the network between the nodes' addresses.")
        { RetryAfterSeconds = 1 };

    internal static Problem OutcomeUnknown() =>
        new(503, "outcome-unknown", "Outcome unknown", "The node that serves the space became unreachable while it had this request: it " +
        "may be stored or not.", "Try again; with an Idempotency-Key that is safe, without one something may be stored twice.")
        { RetryAfterSeconds = 1 };

    /// <summary>The space that a request is about; null: none, so that every node can answer it.</summary>
    static string? SpaceOf(HttpRequest request)
    {
        if (request.Path.Value is not { } path) return null;
        const string Door = "/console", Api = "/console/api/", Spaces = "/v1/spaces/";
        if (path.StartsWith(Api, StringComparison.Ordinal)) return request.Query["space"] is [{ Length: > 0 } named, ..] ? named : "main";
        if (path.StartsWith(Door + "/s/", StringComparison.Ordinal)) path = path[Door.Length..];
        if (path.StartsWith("/v1/cluster", StringComparison.Ordinal)) return null; // each node knows all nodes
        if (path.StartsWith(Spaces, StringComparison.Ordinal) && path.Length > Spaces.Length) return path[Spaces.Length..];
        if (path.StartsWith("/v1/", StringComparison.Ordinal)) return "main";
        if (!path.StartsWith("/s/", StringComparison.Ordinal)) return null;
        int end = path.IndexOf('/', 3);
        return end > 3 && path.AsSpan(end).StartsWith("/v1/", StringComparison.Ordinal) ? path[3..end] : null;
    }

    /// <summary>The request as it came, with what nodes tell each other.</summary>
    sealed class ToNode(NodeIdentity me, int hops) : HttpTransformer
    {
        public override async ValueTask TransformRequestAsync(HttpContext context, HttpRequestMessage request, string destination,
            CancellationToken cancel)
        {
            await base.TransformRequestAsync(context, request, destination, cancel);
            // As it was written: a path that was decoded and encoded again may be another.
            request.RequestUri = new Uri(destination + context.Features.Get<IHttpRequestFeature>()!.RawTarget,
                new UriCreationOptions { DangerousDisablePathAndQueryCanonicalization = true });
            request.Headers.Host = context.Request.Host.Value;
            NodeDoor.Tell(request.Headers, me.Secret, context, hops);
        }
    }

    public void Dispose() => client.Dispose();
}
