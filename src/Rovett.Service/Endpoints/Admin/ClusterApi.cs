using Rovett.Service.Audit;
using Rovett.Service.Cluster;
using Rovett.Service.Credentials;
using Rovett.Service.Endpoints.Backend;
using Rovett.Service.Http;
using Rovett.Service.Spaces;
using Rovett.Storage.Postgres;

namespace Rovett.Service.Endpoints.Admin;

/// <summary>The nodes of a cluster. Every node answers for all, whichever serve spaces.</summary>
public sealed class ClusterApi(SpaceDirectory spaces, AuditTrail audit, IServiceProvider provider)
{
    static readonly TimeSpan Patience = TimeSpan.FromSeconds(2);

    /// <summary>Lists the nodes and the spaces.</summary>
    public Task<ClusterAnswer> ListNodes(HttpContext context) => Task.FromResult(Answer(Required()));

    /// <summary>Moves a space.</summary>
    /// <remarks>The node serves the space from now on, as long as it is there. Sessions of the space end and come back.</remarks>
    public async Task<ClusterAnswer> MoveSpace(HttpContext context, Given<MoveRequest> body)
    {
        body.Missing("space", "must name a space");
        var (nodes, wish) = (Required(), body.Sound());
        if (spaces.Find(wish.Space!) is not { } space) throw SpacesApi.Unknown().ToException();
        if (wish.Node is { } node && Find(nodes, node) is null) throw UnknownNode(nodes).ToException();
        nodes.Move(space, wish.Node);
        audit.Note("main", context.KeyCaller().Key.Actor, "space.moved", space.Name, json => json.WriteString("node", wish.Node ?? "any"));
        await Until(nodes, () => wish.Node is null || nodes.Now?.Nodes.FirstOrDefault(n => n.Url == wish.Node)?.Incarnation
            == nodes.Now?.Spaces.FirstOrDefault(s => s.Space == space.Id)?.Owner);
        return Answer(nodes);
    }

    /// <summary>Has a node give its spaces up, or serve spaces again.</summary>
    /// <remarks>A node without spaces passes requests on and is not ready, so that a load balancer sends it none. It can be stopped then
    /// without anybody waiting. One that is started again serves spaces.</remarks>
    public async Task<ClusterAnswer> DrainNode(HttpContext context, Given<DrainRequest> body)
    {
        body.Missing("node", "must name a node");
        var (nodes, wish) = (Required(), body.Sound());
        bool drains = wish.Drains ?? true;
        if (!nodes.Drain(wish.Node!, drains)) throw UnknownNode(nodes).ToException();
        audit.Note("main", context.KeyCaller().Key.Actor, drains ? "node.drained" : "node.returned", wish.Node!);
        await Until(nodes, () => !drains || nodes.Now is not { } now || now.Spaces.All(s => s.Owner is { } owner
            && now.Nodes.FirstOrDefault(n => n.Incarnation == owner)?.Url != wish.Node));
        return Answer(nodes);
    }

    /// <summary>Gives it a moment; what takes longer goes on.</summary>
    static async Task Until(Nodes nodes, Func<bool> holds)
    {
        for (long end = Environment.TickCount64 + (long)Patience.TotalMilliseconds; Environment.TickCount64 < end;)
        {
            var changed = nodes.Changed;
            await nodes.LookNow();
            if (holds()) return;
            await Task.WhenAny(changed, Task.Delay(50));
        }
    }

    Nodes Required() => provider.GetService<Nodes>()
        ?? throw new Problem(409, "no-cluster", "Not a cluster", "This service has its store to itself.",
        "Start several services with the same database, each with 'nodeUrl' and 'clusterSecretFile'.").ToException();

    static NodeRow? Find(Nodes nodes, string node) => nodes.Now?.Nodes.FirstOrDefault(n => n.Url == node);

    static Problem UnknownNode(Nodes nodes) => new(404, "unknown-node", "No such node", "No node has this address.",
        $"Nodes are known by the address where the others reach them: {string.Join(", ", nodes.Now?.Nodes.Select(n => n.Url) ?? [])}.");

    static ClusterAnswer Answer(Nodes nodes)
    {
        var now = nodes.Now;
        var urls = now?.Nodes.ToDictionary(n => n.Incarnation, n => n.Url) ?? [];
        return new ClusterAnswer
        {
            Node = nodes.Name,
            Nodes = NodeAnswer.Of(nodes),
            Spaces = [.. now?.Spaces.Select(s => new PlacedSpace
            {
                Space = s.Name,
                Node = s.Owner is { } owner ? urls.GetValueOrDefault(owner) : null,
                Wanted = s.Wanted,
            }) ?? []],
        };
    }
}
