using Rovett.Core.Visibility;
using Rovett.Core.Wire;

namespace Rovett.Core.Delivery;

/// <summary>A session as a node's view of the ledger uses it, commit by commit, each after it is on disk. Messages are held back until
/// <see cref="Flush"/>: those of one commit are sent in one write.</summary>
public interface ISessionPort
{
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
    /// <param name="kept">False when too many wait, and this one is left out.</param>
    /// <returns>True when a flush is now due that was not due before.</returns>
    bool OfferPassing(string key, ControlMessage message, out bool kept);
    /// <summary>Any other message. May be skipped for a session that is behind, which gets the totals later.</summary>
    /// <returns>True when a flush is now due that was not due before.</returns>
    bool Tell(ControlMessage message);
    /// <summary>The session missed a change of totals: it falls behind, and gets them once it is live again.</summary>
    void TotalsMissed();
    /// <summary>The session has everything up to now: what follows is offered.</summary>
    /// <returns>True when a flush is now due that was not due before.</returns>
    bool EnterLive(IReadOnlyList<(PageItem Item, long Rev, long Unread)> rest, string cursor, long position, Totals totals);
    /// <summary>Memory does not reach back far enough: the session must read another page.</summary>
    void StayBehind();
    /// <summary>The user's visibility changed: pages read before are void.</summary>
    /// <param name="version">The number of the plan that holds from now on.</param>
    /// <param name="allowed">Whether an ordinal of a log is still visible; queued entries that are not are dropped.
    /// Null: all is.</param>
    /// <param name="mayShow">Which presence messages may still be sent; null: all.</param>
    void PlanChanged(int version, Func<long, long, bool>? allowed, Func<ChannelContent, bool>? mayShow = null);
    /// <summary>Sends everything queued.</summary>
    void Flush();
    /// <summary>The service ends it.</summary>
    void Dismiss(ControlMessage lastWords);
}
