using Rovett.Service.Endpoints.Backend;
using Rovett.Service.Http;

namespace Rovett.Service.Endpoints.Admin;

/// <summary>The nodes of a cluster, and the spaces that each serves.</summary>
public sealed record ClusterAnswer
{
    /// <summary>The node that answers.</summary>
    [Example("https://10.0.0.5:7412")]
    public required string Node { get; init; }

    /// <summary>Every node.</summary>
    public required IReadOnlyList<NodeAnswer> Nodes { get; init; }

    /// <summary>Every space.</summary>
    public required IReadOnlyList<PlacedSpace> Spaces { get; init; }
}

/// <summary>A space and where it is served.</summary>
public sealed record PlacedSpace
{
    /// <summary>The space.</summary>
    [Example("harbour")]
    public required string Space { get; init; }

    /// <summary>The node that serves it; absent: none just now.</summary>
    [Example("https://10.0.0.5:7412")]
    public string? Node { get; init; }

    /// <summary>The node that operators want to serve it; absent: any.</summary>
    [Example("https://10.0.0.5:7412")]
    public string? Wanted { get; init; }
}

/// <summary>A space that is to be served by another node.</summary>
public sealed record MoveRequest
{
    /// <summary>The space.</summary>
    [Example("harbour")]
    public string? Space { get; set; }

    /// <summary>The node that is to serve it as long as it is there; absent: any.</summary>
    [Example("https://10.0.0.5:7412")]
    public string? Node { get; set; }
}

/// <summary>A node that is to give its spaces up, or to serve spaces again.</summary>
public sealed record DrainRequest
{
    /// <summary>The node.</summary>
    [Example("https://10.0.0.5:7412")]
    public string? Node { get; set; }

    /// <summary>False: it serves spaces again.</summary>
    [Example(true)]
    public bool? Drains { get; set; }
}
