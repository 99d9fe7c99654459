using Rovett.Core.Visibility;
using Rovett.Core.Wire;

namespace Rovett.Core.Delivery;

/// <summary>How the ledger sees a session; called on the ledger's thread only. What it is told is held back until
/// <see cref="Flush"/>, after the commit is on disk; what one commit stored leaves in one write.</summary>
public interface ISessionPort
{
    /// <summary>Entries were stored that reach the user.</summary>
    /// <param name="run">The entries.</param>
    /// <param name="rev">The number of the user's own changes.</param>
    /// <param name="unread">The user's unread total after the first; each that follows is one more.</param>
    /// <param name="stored">They are on disk: they leave at once, after whatever still waits for a flush.</param>
    /// <returns>True when a flush is now due that was not due before.</returns>
    bool Offer(EntryRun run, long rev, long unread, bool stored);
    /// <summary>An ephemeral notification: of those with one key that wait to be written only the newest is.</summary>
    /// <param name="key">Its key.</param>
    /// <param name="message">The message.</param>
    /// <param name="kept">False when too many wait, and this one is left out.</param>
    /// <returns>True when a flush is now due that was not due before.</returns>
    bool OfferPassing(string key, ControlMessage message, out bool kept);
    /// <summary>Something else to tell. May be left out for a session that is behind, which hears the totals later.</summary>
    /// <returns>True when a flush is now due that was not due before.</returns>
    bool Tell(ControlMessage message);
    /// <summary>The totals changed, and it was not told: it falls behind, and hears them once it is live again.</summary>
    void TotalsMissed();
    /// <summary>The session has everything up to now: what follows is offered.</summary>
    /// <returns>True when a flush is now due that was not due before.</returns>
    bool EnterLive(IReadOnlyList<(PageItem Item, long Rev, long Unread)> rest, string cursor, long position, Totals totals);
    /// <summary>There was more than memory could give: it must read another page.</summary>
    void StayBehind();
    /// <summary>What the user may see changed: pages read before are void.</summary>
    /// <param name="version">The number of the plan that holds from now on.</param>
    /// <param name="allowed">Whether an ordinal of a log is still the user's to see; what waits and is not is dropped.
    /// Null: all is.</param>
    /// <param name="mayShow">What it may still show of channels; null: all.</param>
    void PlanChanged(int version, Func<long, long, bool>? allowed, Func<ChannelContent, bool>? mayShow = null);
    /// <summary>The commit is on disk: writes what was offered and told.</summary>
    void Flush();
    /// <summary>The commit failed: what was offered since the last flush never happened.</summary>
    void Forget();
    /// <summary>The service ends it.</summary>
    void Dismiss(ControlMessage lastWords);
}
