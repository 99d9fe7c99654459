using System.Collections.Concurrent;
using Grpc.Core;
using Grpc.Net.Client;
using Rovett.Service.Diagnostics;
using Rovett.Service.Ledgers;
using Rovett.Service.Options;
using Rovett.Service.Tls;

namespace Rovett.Service.Cluster;

/// <summary>This node's links to those that serve what its sessions are about: one to each, made when first needed.</summary>
sealed class LinkPool(NodeIdentity me, NodeConnections connections, RovettOptions options, Faults faults, ILogger<LinkPool> log)
    : IDisposable
{
    static readonly TimeSpan OpensWithin = TimeSpan.FromSeconds(2), TriedAgainAfter = TimeSpan.FromSeconds(2);

    readonly ConcurrentDictionary<Guid, Lazy<Task<HoldingLink?>>> links = new();
    readonly BootClock clock = new();

    /// <summary>The link to the node that serves a space.</summary>
    /// <returns>Null: there is none now, or that node does not know links: requests are passed on to it.</returns>
    public async ValueTask<HoldingLink?> To(Place place)
    {
        if (!MayLink(place)) return null;
        var (owner, url) = (place.Owner!.Value, place.Url!);
        var made = links.GetOrAdd(owner, _ => new Lazy<Task<HoldingLink?>>(() => Open(owner, url)));
        var link = await made.Value;
        return link is { IsOver: false } ? link : null;
    }

    /// <summary>Whether there can be a link. Without TLS the two ends can't agree on HTTP/2; plain http is only for trying things out on
    /// one machine.</summary>
    public static bool MayLink(Place place) =>
        place is { Owner: not null, Url: { } url } && url.StartsWith("https:", StringComparison.Ordinal);

    /// <summary>How many sessions are held of spaces that other nodes serve.</summary>
    public int Held => Made().Sum(l => l.Held.Count);

    IEnumerable<HoldingLink> Made() => links.Values.Where(l => l is { IsValueCreated: true, Value.IsCompletedSuccessfully: true })
        .Select(l => l.Value.Result).OfType<HoldingLink>();

    async Task<HoldingLink?> Open(Guid owner, string url)
    {
        GrpcChannel? channel = null;
        try
        {
            channel = GrpcChannel.ForAddress(url, new GrpcChannelOptions
            {
                HttpHandler = connections.Handler(),
                DisposeHttpClient = true,
                MaxReceiveMessageSize = null,
                MaxSendMessageSize = null,
            });
            var headers = new Metadata { { NodeDoor.SecretHeader, me.Secret } };
            var call = new NodeLinks.NodeLinksClient(channel).Open(headers);
            await call.ResponseHeadersAsync.WaitAsync(OpensWithin);
            var opened = channel;
            return new HoldingLink(call, clock, (long)options.RecentMebibytes << 20, options.ComeBackWithinMs, faults, link =>
            {
                log.LogInformation("The link to {Node} has ended; its {Count} sessions come back by any node", url, link.Held.Count);
                links.TryRemove(owner, out Lazy<Task<HoldingLink?>>? _);
                opened.Dispose();
            });
        }
        catch (Exception error) when (error is RpcException or TimeoutException or HttpRequestException)
        {
            channel?.Dispose();
            _ = Task.Delay(TriedAgainAfter).ContinueWith(_ => links.TryRemove(owner, out Lazy<Task<HoldingLink?>>? _),
                TaskScheduler.Default);
            return null;
        }
    }

    public void Dispose()
    {
        foreach (var link in Made().ToList()) link.Dispose();
    }
}
