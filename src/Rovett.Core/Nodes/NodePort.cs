namespace Rovett.Core.Nodes;

/// <summary>Gathers, on a ledger's side, what the commit under way means for the sessions of a node.</summary>
sealed class NodePort
{
    List<NodeOp> ops = [];

    /// <summary>Adds what comes next.</summary>
    public void Add(NodeOp op) => ops.Add(op);

    /// <summary>The commit failed: nothing of it is told.</summary>
    public void Clear() => ops.Clear();

    /// <summary>Takes what was gathered.</summary>
    public List<NodeOp> Take()
    {
        var taken = ops;
        ops = [];
        return taken;
    }

    /// <summary>Whether nothing was gathered.</summary>
    public bool IsEmpty => ops.Count == 0;
}
