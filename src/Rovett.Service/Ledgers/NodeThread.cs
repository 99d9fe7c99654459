using Rovett.Core.Nodes;
using Rovett.Service.Diagnostics;

namespace Rovett.Service.Ledgers;

/// <summary>The link to this process's own sessions. What concerns few of them is applied where it is sent, unless something still waits;
/// what concerns many on a thread of its own, so that the ledger goes on meanwhile.</summary>
sealed class NodeThread : INodeLink, IDisposable
{
    const int Few = 200;

    readonly object gate = new();
    readonly Queue<NodeCommit> waiting = new();
    readonly Faults faults;
    readonly Thread thread;
    bool isBusy, closed;

    /// <summary>Starts the thread.</summary>
    public NodeThread(Faults faults)
    {
        this.faults = faults;
        thread = new Thread(Run) { Name = "sessions", IsBackground = true };
        thread.Start();
    }

    /// <inheritdoc/>
    /// <remarks>Called by one thread at a time.</remarks>
    public void Send(NodeCommit commit)
    {
        lock (gate)
        {
            if (isBusy || waiting.Count > 0 || (commit.Offers > Few && !closed))
            {
                waiting.Enqueue(commit);
                Monitor.Pulse(gate);
                return;
            }
        }
        Apply(commit); // nobody else sends meanwhile, so the thread has nothing to do
    }

    void Run()
    {
        for (; ; )
        {
            NodeCommit next;
            lock (gate)
            {
                isBusy = false;
                while (waiting.Count == 0)
                {
                    if (closed) return;
                    Monitor.Wait(gate);
                }
                next = waiting.Dequeue();
                isBusy = true;
            }
            Apply(next);
        }
    }

    void Apply(NodeCommit commit)
    {
        try
        {
            commit.Apply();
        }
        catch (Exception error)
        {
            faults.Bug(null, nameof(NodeThread), error);
        }
    }

    /// <summary>Applies what waits, then stops.</summary>
    public void Dispose()
    {
        lock (gate)
        {
            closed = true;
            Monitor.Pulse(gate);
        }
        thread.Join(TimeSpan.FromSeconds(10));
    }
}
