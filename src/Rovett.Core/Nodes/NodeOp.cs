using Rovett.Core.Delivery;
using Rovett.Core.Visibility;
using Rovett.Core.Wire;

namespace Rovett.Core.Nodes;

/// <summary>One thing that a commit means for the sessions of a node. Those of a commit are applied in the order of the calls that made
/// them, and after it is on disk.</summary>
abstract record NodeOp
{
    /// <summary>How many times something is offered to somebody, as far as that is known.</summary>
    public virtual int Offers => 1;

    /// <summary>Applies it.</summary>
    public abstract void Apply(NodeView view);
}

/// <summary>Notifications that came one after the other in one log: one line for all whom it reaches.</summary>
/// <param name="Log">The log.</param>
/// <param name="FirstOrdinal">The ordinal of the first.</param>
/// <param name="Entries">The notifications.</param>
/// <param name="Special">Users who get lines of their own; null: nobody.</param>
/// <param name="NotTo">The session that caused them; null: none.</param>
/// <param name="Reach">How many users and sessions the log reaches.</param>
sealed record NodeRun(NodeLog Log, long FirstOrdinal, OutgoingEntry[] Entries, HashSet<NodeUser>? Special, ISessionPort? NotTo, int Reach)
    : NodeOp
{
    public override int Offers => Reach * Entries.Length;

    public override void Apply(NodeView view) => view.Offer(this);
}

/// <summary>Entries for one user for whom they differ: in what is counted, or in how they are shown.</summary>
/// <param name="User">The user.</param>
/// <param name="Run">The entries; null: only the total changes.</param>
/// <param name="Counted">How many they add to the unread total.</param>
/// <param name="NotTo">The session that caused them; null: none.</param>
sealed record NodeLine(NodeUser User, EntryRun? Run, long Counted, ISessionPort? NotTo) : NodeOp
{
    public override void Apply(NodeView view)
    {
        User.Unread += Counted;
        if (Run is null) return;
        foreach (var session in User.Sessions)
        {
            if (session != NotTo) view.Offer(session, Run, User.Rev, User.Unread);
        }
    }
}

/// <summary>Entries for one session, of which nothing is counted.</summary>
sealed record NodeWatchLine(NodeUser User, ISessionPort Session, EntryRun Run) : NodeOp
{
    public override void Apply(NodeView view) => view.Offer(Session, Run, User.Rev, User.Unread);
}

/// <summary>A user's unread total as it is.</summary>
sealed record NodeTotal(NodeUser User, long Unread) : NodeOp
{
    public override void Apply(NodeView view) => User.Unread = Unread;
}

/// <summary>A user's unread total was counted anew: its sessions are told if it is another one.</summary>
sealed record NodeRecount(NodeUser User, long Unread, ControlMessage Message) : NodeOp
{
    public override void Apply(NodeView view)
    {
        if (User.Unread == Unread) return;
        User.Unread = Unread;
        foreach (var session in User.Sessions) view.Tell(session, Message);
    }
}

/// <summary>What a node has of a user is compared with what the ledger has.</summary>
sealed record NodeCheck(NodeUser User, long Rev, long Unread) : NodeOp
{
    public override void Apply(NodeView view)
    {
        if ((User.Rev, User.Unread) == (Rev, Unread)) return;
        view.Drifted($"rev {User.Rev} and unread {User.Unread}, where the ledger has {Rev} and {Unread}");
        (User.Rev, User.Unread) = (Rev, Unread);
    }
}

/// <summary>The number of a user's own changes.</summary>
sealed record NodeRev(NodeUser User, long Rev) : NodeOp
{
    public override void Apply(NodeView view) => User.Rev = Rev;
}

/// <summary>A session comes.</summary>
sealed record NodeJoin(NodeUser User, ISessionPort Session) : NodeOp
{
    public override void Apply(NodeView view)
    {
        User.Sessions.Add(Session);
        Session.Joined();
    }
}

/// <summary>A session goes.</summary>
sealed record NodeLeave(NodeUser User, ISessionPort Session) : NodeOp
{
    public override void Apply(NodeView view) => User.Sessions.Remove(Session);
}

/// <summary>A log reaches a user from now on, or no longer.</summary>
sealed record NodeEnlist(NodeLog Log, NodeMember Member, bool Joins) : NodeOp
{
    public override void Apply(NodeView view)
    {
        if (Joins) Log.Members.Add(Member);
        else Log.Members.Remove(Member);
    }
}

/// <summary>A log reaches a session from now on, or no longer.</summary>
sealed record NodeSubscribe(NodeLog Log, NodeWatch Watch, bool Joins) : NodeOp
{
    public override void Apply(NodeView view)
    {
        if (Joins) Log.Watches.Add(Watch);
        else Log.Watches.Remove(Watch);
    }
}

/// <summary>A session is told something.</summary>
sealed record NodeTell(ISessionPort Session, ControlMessage Message) : NodeOp
{
    public override void Apply(NodeView view) => view.Tell(Session, Message);
}

/// <summary>A session is told of missed entries that it has not come past.</summary>
/// <param name="Session">The session.</param>
/// <param name="Head">What a live session has come to.</param>
/// <param name="Missed">Each with its position.</param>
sealed record NodeMissed(ISessionPort Session, long Head, IReadOnlyList<(long Position, ControlMessage Message)> Missed) : NodeOp
{
    public override void Apply(NodeView view)
    {
        if (Session.TellMissed(Head, Missed)) view.FlushLater(Session);
    }
}

/// <summary>Something passing for a session.</summary>
/// <param name="Session">The session.</param>
/// <param name="Key">Of those with one key only the newest is written.</param>
/// <param name="Message">The message.</param>
/// <param name="LeftOut">Called when it is left out because too many wait; null: nobody asks.</param>
sealed record NodePassing(ISessionPort Session, string Key, ControlMessage Message, Action? LeftOut) : NodeOp
{
    public override void Apply(NodeView view)
    {
        if (Session.OfferPassing(Key, Message, LeftOut)) view.FlushLater(Session);
    }
}

/// <summary>A session that has everything up to a position goes live with the rest.</summary>
sealed record NodeLive(ISessionPort Session, long Through, IReadOnlyList<(PageItem Item, long Rev, long Unread)> Rest, string Cursor,
    long Head, Totals Totals) : NodeOp
{
    public override void Apply(NodeView view)
    {
        if (Session.EnterLive(Through, Rest, Cursor, Head, Totals)) view.FlushLater(Session);
    }
}

/// <summary>A session must read another page.</summary>
sealed record NodeBehind(ISessionPort Session) : NodeOp
{
    public override void Apply(NodeView view)
    {
        if (Session.StayBehind()) view.FlushLater(Session);
    }
}

/// <summary>A session missed a change of totals.</summary>
sealed record NodeTotalsMissed(ISessionPort Session) : NodeOp
{
    public override void Apply(NodeView view)
    {
        if (Session.TotalsMissed()) view.FlushLater(Session);
    }
}

/// <summary>What a session may be sent changed.</summary>
sealed record NodePlan(ISessionPort Session, int Version, Sight? Sight) : NodeOp
{
    public override void Apply(NodeView view)
    {
        if (Session.PlanChanged(Version, Sight)) view.FlushLater(Session);
    }
}

/// <summary>A session ends.</summary>
sealed record NodeEnd(ISessionPort Session, ControlMessage LastWords) : NodeOp
{
    public override void Apply(NodeView view) => view.End(Session, LastWords);
}

/// <summary>Another process takes over a session's space.</summary>
sealed record NodeMove(ISessionPort Session, ControlMessage LastWords) : NodeOp
{
    public override void Apply(NodeView view) => view.End(Session, LastWords, moves: true);
}

/// <summary>What must come after all before it is applied: answers.</summary>
sealed record NodeThen(Action What) : NodeOp
{
    public override int Offers => 0;

    public override void Apply(NodeView view) => What();
}
