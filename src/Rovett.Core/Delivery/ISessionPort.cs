using Rovett.Core.Visibility;
using Rovett.Core.Wire;

namespace Rovett.Core.Delivery;

/// <summary>A session as a node's view of the ledger uses it, commit by commit, each after it is on disk. Messages are held back until
/// <see cref="Flush"/>: those of one commit are sent in one write.</summary>
public interface ISessionPort
{
    /// <summary>Sets the session's user: called once by the ledger, before anything is offered, and again when the commit failed and is
    /// tried again.</summary>
    /// <param name="plan">The number of the user's present plan.</param>
    /// <param name="user">The user's dispatch mark.</param>
    /// <param name="marks">The marks of the device's sessions, this one's last.</param>
    void Join(int plan, DispatchMark user, DispatchMark[] marks);
    /// <summary>The commit that let it in is on disk.</summary>
    void Joined();
    /// <summary>Whether this many entries may be queued before the device has read any.</summary>
    bool HasRoomFor(int entries);
    /// <summary>Entries were stored that reach the user.</summary>
    /// <param name="run">The entries.</param>
    /// <param name="rev">The number of the user's own changes.</param>
    /// <param name="unread">The user's unread total after the first; each that follows is one more.</param>
    /// <param name="isLast">Nothing follows them in their commit: send at once, unless something before still waits for a flush.</param>
    /// <returns>True when a flush is now due that was not due before.</returns>
    bool Offer(EntryRun run, long rev, long unread, bool isLast);
    /// <summary>An ephemeral notification: of those with one key that wait to be written only the newest is.</summary>
    /// <param name="key">Its key.</param>
    /// <param name="message">The message.</param>
    /// <param name="leftOut">Called, maybe later and on another thread, when too many wait and it is left out; null: nobody asks.</param>
    /// <returns>True when a flush is now due that was not due before.</returns>
    bool OfferPassing(string key, ControlMessage message, Action? leftOut);
    /// <summary>Any other message. May be skipped for a session that is behind, which gets the totals later.</summary>
    /// <returns>True when a flush is now due that was not due before.</returns>
    bool Tell(ControlMessage message);
    /// <summary>It is told of missed entries, of those that it has come past: a page brings the others.</summary>
    /// <param name="head">What a live session has come to.</param>
    /// <param name="missed">Each with its position.</param>
    /// <returns>True when a flush is now due that was not due before.</returns>
    bool TellMissed(long head, IReadOnlyList<(long Position, ControlMessage Message)> missed);
    /// <summary>The session missed a change of totals: it falls behind, and gets them once it is live again.</summary>
    /// <returns>True when a flush is now due that was not due before.</returns>
    bool TotalsMissed();
    /// <summary>The session has everything up to now: what follows is offered. If it has come past <paramref name="from"/>, or not come
    /// to it, it reads another page instead.</summary>
    /// <returns>True when a flush is now due that was not due before.</returns>
    bool EnterLive(long from, IReadOnlyList<(PageItem Item, long Rev, long Unread)> rest, string cursor, long position, Totals totals);
    /// <summary>Memory does not reach back far enough: the session must read another page.</summary>
    /// <returns>True when a flush is now due that was not due before.</returns>
    bool StayBehind();
    /// <summary>The user's visibility changed: pages read before are void.</summary>
    /// <param name="version">The number of the plan that holds from now on.</param>
    /// <param name="sight">What is still the user's to see: of what is queued the rest is dropped. Null: all is.</param>
    /// <returns>True when a flush is now due that was not due before.</returns>
    bool PlanChanged(int version, Sight? sight);
    /// <summary>Sends everything queued.</summary>
    void Flush();
    /// <summary>The service ends it.</summary>
    void Dismiss(ControlMessage lastWords);
    /// <summary>Another process takes over the space: the session ends here, and is attached there if its connection stays.</summary>
    /// <param name="lastWords">The last message to a device whose connection does not stay.</param>
    void MoveAway(ControlMessage lastWords);
}
