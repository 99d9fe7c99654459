namespace Rovett.Core.Nodes;

/// <summary>The way from a ledger to the node that holds its sessions: everything arrives, once, in order.</summary>
public interface INodeLink
{
    /// <summary>Sends what a commit means. It may be applied before this returns, or later on another thread.</summary>
    void Send(NodeCommit commit);
}

/// <summary>What a commit means for the sessions of a node.</summary>
public sealed class NodeCommit
{
    readonly IReadOnlyList<NodeOp> ops;
    readonly NodeView view;

    internal NodeCommit(IReadOnlyList<NodeOp> ops, NodeView view)
    {
        (this.ops, this.view) = (ops, view);
        foreach (var op in ops) Offers += op.Offers;
    }

    /// <summary>About how many times something is offered to somebody.</summary>
    public int Offers { get; }

    /// <summary>Applies it. One at a time, in the order they were sent.</summary>
    public void Apply() => view.Apply(ops);
}

/// <summary>Applies everything at once, where it is sent.</summary>
sealed class DirectLink : INodeLink
{
    public void Send(NodeCommit commit) => commit.Apply();
}
