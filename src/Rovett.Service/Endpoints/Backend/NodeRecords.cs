using Rovett.Service.Cluster;
using Rovett.Service.Http;

namespace Rovett.Service.Endpoints.Backend;

/// <summary>A node.</summary>
public sealed record NodeAnswer
{
    /// <summary>Where the other nodes reach it; it is known by that.</summary>
    [Example("https://10.0.0.5:7412")]
    public required string Node { get; init; }

    /// <summary><c>serving</c>; <c>leaving</c>: it gives its spaces up and passes requests on; <c>cut-off</c>: it can't reach nodes
    /// that serve spaces, and others can, so that it is not ready; <c>silent</c>: it was not heard of for 3 s.</summary>
    [Example("serving")]
    public required string State { get; init; }

    /// <summary>How many spaces it serves.</summary>
    [Example(2)]
    public required int Spaces { get; init; }

    /// <summary>The version of its program.</summary>
    [Example("0.2.0")]
    public required string Version { get; init; }

    /// <summary>When it joined.</summary>
    public required StoredTime Since { get; init; }

    /// <summary>The live nodes that it can't reach over the network; absent: none.</summary>
    public IReadOnlyList<string>? Unreached { get; init; }

    /// <summary>The nodes as they are shown.</summary>
    internal static IReadOnlyList<NodeAnswer> Of(Nodes? nodes) => nodes?.Now is not { } now ? [] :
    [
        .. now.Nodes.Select(n => new NodeAnswer
        {
            Node = n.Url,
            State = !n.IsAlive ? "silent" : n.IsLeaving ? "leaving" : Partition.IsCutOff(now, n) ? "cut-off" : "serving",
            Spaces = now.Spaces.Count(s => s.Owner == n.Incarnation),
            Version = n.Version,
            Since = StoredTime.From(now.Now - n.For),
            Unreached = n.IsAlive && Partition.Unreached(now, n).Select(u => u.Url).ToList() is { Count: > 0 } lost ? lost : null,
        }),
    ];
}
