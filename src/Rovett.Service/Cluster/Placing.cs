using System.Buffers.Binary;
using System.Security.Cryptography;
using System.Text;
using Rovett.Storage.Postgres;

namespace Rovett.Service.Cluster;

/// <summary>Which node is to serve a space: the one that operators want, otherwise the one with the highest hash of the space with its
/// address (rendezvous hashing), so that a node that comes or goes moves only the spaces that are its own.</summary>
static class Placing
{
    /// <summary>A node is given spaces once it has been there for so long: all know it by then.</summary>
    static readonly TimeSpan Settled = TimeSpan.FromSeconds(3);

    /// <summary>The nodes that spaces may be placed on.</summary>
    /// <param name="now">The nodes.</param>
    /// <param name="gone">Processes that have died for sure.</param>
    public static IReadOnlyList<NodeRow> Candidates(ClusterNow now, HashSet<Guid> gone)
    {
        List<NodeRow> alive = [.. now.Nodes.Where(n => n.IsAlive && !n.IsLeaving && !gone.Contains(n.Incarnation)
            && !Partition.IsAlone(now, n))];
        List<NodeRow> settled = alive.FindAll(n => n.For > Settled);
        return settled.Count > 0 ? settled : alive;
    }

    /// <summary>The node for a space; null: there is none.</summary>
    public static NodeRow? Of(OwnedSpace space, IReadOnlyList<NodeRow> candidates) =>
        candidates.FirstOrDefault(n => n.Url == space.Wanted) ?? candidates.MaxBy(n => Hash(space.Name, n.Url));

    static ulong Hash(string space, string node) =>
        BinaryPrimitives.ReadUInt64BigEndian(SHA256.HashData(Encoding.UTF8.GetBytes($"{space}\n{node}")));
}
