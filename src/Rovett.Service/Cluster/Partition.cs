using Rovett.Storage.Postgres;

namespace Rovett.Service.Cluster;

/// <summary>What follows when nodes are alive and can't reach each other.</summary>
static class Partition
{
    const int Witnesses = 2;

    /// <summary>The live nodes that a node can't reach.</summary>
    public static IEnumerable<NodeRow> Unreached(ClusterNow now, NodeRow node) =>
        now.Nodes.Where(n => n.IsAlive && n.Incarnation != node.Incarnation && node.Unreached.Contains(n.Incarnation));

    /// <summary>Whether requests should go to other nodes: it can't reach nodes that serve spaces, and another node reaches the nodes
    /// of more spaces. The node that reaches the most is never cut off.</summary>
    public static bool IsCutOff(ClusterNow now, NodeRow node)
    {
        if (node.Unreached.Count == 0 || Unreached(now, node).All(u => now.Spaces.All(s => s.Owner != u.Incarnation))) return false;
        int reaches = Reaches(now, node);
        return now.Nodes.Any(n => n.IsAlive && !n.IsLeaving && Reaches(now, n) > reaches);
    }

    /// <summary>Whether at least two other nodes are alive and none of them reaches it. Such a node gives its spaces up.</summary>
    public static bool IsAlone(ClusterNow now, NodeRow node)
    {
        int others = 0;
        foreach (var other in now.Nodes)
        {
            if (!other.IsAlive || other.Incarnation == node.Incarnation) continue;
            if (!other.Unreached.Contains(node.Incarnation)) return false;
            others++;
        }
        return others >= Witnesses;
    }

    /// <summary>The number of spaces whose nodes it reaches.</summary>
    static int Reaches(ClusterNow now, NodeRow node)
    {
        var lost = Unreached(now, node).Select(n => n.Incarnation).ToHashSet();
        return now.Spaces.Count(s => s.Owner is { } owner && !lost.Contains(owner));
    }
}
