namespace Rovett.Storage.Postgres;

/// <summary>A node as the database knows it.</summary>
/// <param name="Url">Where the other nodes reach it.</param>
/// <param name="Incarnation">One life of its process.</param>
/// <param name="Version">The version of its program.</param>
/// <param name="Certificate">SHA-256 of the certificate that it shows the others; null: it talks without TLS.</param>
/// <param name="For">How long ago it joined.</param>
/// <param name="Beat">How long ago it was last heard of, by the database's clock.</param>
/// <param name="IsLeaving">It gives its spaces up.</param>
/// <param name="IsConnected">It has connections to the database.</param>
/// <param name="Unreached">The incarnations of nodes that it can't reach over the network.</param>
public sealed record NodeRow(string Url, Guid Incarnation, string Version, byte[]? Certificate, TimeSpan For, TimeSpan Beat,
    bool IsLeaving, bool IsConnected, IReadOnlyCollection<Guid> Unreached)
{
    /// <summary>For how long what it says of itself holds.</summary>
    public static readonly TimeSpan Holds = TimeSpan.FromSeconds(3);

    static readonly TimeSpan Ahead = TimeSpan.FromSeconds(-1);

    /// <summary>It was heard of lately; a time that is still to come says nothing.</summary>
    public bool IsAlive => Beat < Holds && Beat > Ahead;
}

/// <summary>Who serves a space.</summary>
/// <param name="Space">The space's number.</param>
/// <param name="Name">Its name.</param>
/// <param name="Term">Under which term; 0: nobody ever did.</param>
/// <param name="Owner">The incarnation of the node; null: nobody.</param>
/// <param name="Wanted">The node that operators want to serve it; null: any.</param>
public sealed record OwnedSpace(int Space, string Name, long Term, Guid? Owner, string? Wanted);

/// <summary>The nodes and the spaces at one moment.</summary>
/// <param name="Nodes">All that joined and did not leave in order.</param>
/// <param name="Spaces">Every space.</param>
/// <param name="Epoch">The store's life.</param>
/// <param name="Now">The database's clock.</param>
public sealed record ClusterNow(IReadOnlyList<NodeRow> Nodes, IReadOnlyList<OwnedSpace> Spaces, Epoch Epoch, DateTimeOffset Now);

/// <summary>A node's sign of life.</summary>
/// <param name="IsKnown">False: another process has this node's address by now.</param>
/// <param name="Owned">The spaces that are this node's, with their terms.</param>
public sealed record Beat(bool IsKnown, IReadOnlyDictionary<int, long> Owned);
