using Rovett.Core.Delivery;
using Rovett.Core.Wire;

namespace Rovett.Core.Nodes;

/// <summary>Applies commits to the sessions of a node. One thread at a time.</summary>
/// <param name="bug">Hears of bugs: where, and what was thrown.</param>
sealed class NodeView(Action<string, Exception> bug)
{
    readonly List<ISessionPort> toFlush = [];
    long drifted;
    bool isLast;

    /// <summary>How many times a node had another total of a user than the ledger; 0, unless there is a bug. Readable from any
    /// thread.</summary>
    public long DriftedCount => Volatile.Read(ref drifted);

    /// <summary>Applies what a commit means, in order.</summary>
    public void Apply(IReadOnlyList<NodeOp> commit)
    {
        int end = commit.Count;
        while (end > 0 && commit[end - 1] is NodeThen) end--;
        for (int i = 0; i < end; i++)
        {
            // Nothing follows it, so writers may start while it is still being offered to others.
            isLast = i == end - 1;
            if (isLast && commit[i] is NodeRun) Flush();
            Apply(commit[i]);
        }
        Flush();
        for (int i = end; i < commit.Count; i++) Apply(commit[i]);
    }

    void Apply(NodeOp op)
    {
        try
        {
            op.Apply(this);
        }
        catch (Exception error)
        {
            bug(op.GetType().Name, error);
            foreach (var session in Concerned(op).ToList()) End(session); // or they would have a hole
        }
    }

    static IEnumerable<ISessionPort> Concerned(NodeOp op) => op switch
    {
        NodeRun run => run.Log.Members.Items.SelectMany(m => m.User.Sessions).Concat(run.Log.Watches.Items.Select(w => w.Session)),
        NodeLine line => line.User.Sessions,
        NodeWatchLine line => [line.Session],
        NodeTell tell => [tell.Session],
        NodeMissed missed => [missed.Session],
        NodeLive live => [live.Session],
        NodePlan plan => [plan.Session],
        _ => [],
    };

    /// <summary>Offers notifications to everybody whom their log reaches.</summary>
    public void Offer(NodeRun op)
    {
        var log = op.Log;
        var runs = new EntryRun?[log.Texts.Count];
        foreach (var member in log.Members)
        {
            var user = member.User;
            if (op.Special is not null && op.Special.Contains(user)) continue;
            long unread = user.Unread + 1;
            user.Unread += op.Entries.Length;
            var run = runs[member.AddressIndex] ??= RunOf(op, member.AddressIndex, counted: true);
            foreach (var session in user.Sessions)
            {
                if (session != op.NotTo) Offer(session, run, user.Rev, unread);
            }
        }
        if (log.Watches.Count == 0) return;
        Array.Clear(runs);
        foreach (var watch in log.Watches)
        {
            var user = watch.User;
            if (watch.Session == op.NotTo || (op.Special is not null && op.Special.Contains(user))) continue;
            Offer(watch.Session, runs[watch.AddressIndex] ??= RunOf(op, watch.AddressIndex, counted: false), user.Rev, user.Unread);
        }
    }

    static EntryRun RunOf(NodeRun op, int addressIndex, bool counted) =>
        new([.. op.Entries.Select(e => e.WireFor(op.Log.Texts[addressIndex], counted: counted))], op.Log.Id, op.FirstOrdinal);

    /// <summary>Offers a session entries.</summary>
    /// <param name="session">The session.</param>
    /// <param name="run">The entries.</param>
    /// <param name="rev">The number of the user's own changes.</param>
    /// <param name="unread">The user's unread total after the first.</param>
    public void Offer(ISessionPort session, EntryRun run, long rev, long unread)
    {
        try
        {
            if (session.Offer(run, rev, unread, isLast)) toFlush.Add(session);
        }
        catch (Exception error)
        {
            bug(nameof(ISessionPort.Offer), error);
            End(session); // or it would have a hole
        }
    }

    /// <summary>Tells a session something.</summary>
    public void Tell(ISessionPort session, ControlMessage message)
    {
        if (session.Tell(message)) toFlush.Add(session);
    }

    /// <summary>Has a session write once the commit is applied.</summary>
    public void FlushLater(ISessionPort session) => toFlush.Add(session);

    /// <summary>Ends a session.</summary>
    public void End(ISessionPort session, ControlMessage? lastWords = null, bool moves = false)
    {
        try
        {
            if (moves) session.MoveAway(lastWords!);
            else session.Dismiss(lastWords ?? Messages.Ending("internal-error", 1000));
        }
        catch (Exception error)
        {
            bug(nameof(ISessionPort.Dismiss), error);
        }
    }

    /// <summary>A node had something else of a user than the ledger.</summary>
    public void Drifted(string what)
    {
        Volatile.Write(ref drifted, drifted + 1);
        bug("totals", new InvalidOperationException($"A node had {what}; it was set right."));
    }

    void Flush()
    {
        foreach (var session in toFlush)
        {
            try
            {
                session.Flush();
            }
            catch (Exception error)
            {
                bug(nameof(ISessionPort.Flush), error);
                End(session);
            }
        }
        toFlush.Clear();
    }
}
