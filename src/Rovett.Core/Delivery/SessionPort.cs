namespace Rovett.Core.Delivery;

/// <summary>What a session needs from the log or the ledger before it can go on.</summary>
public enum SessionNeed
{
    /// <summary>Nothing.</summary>
    None,
    /// <summary>The next page of its logs.</summary>
    Page,
    /// <summary>To be fed live: it has everything its logs had.</summary>
    GoLive,
}

/// <summary>A notification found in the log for a session that is behind.</summary>
public readonly record struct PageItem(OutgoingNotification Notification, string Address, long Log, long Ordinal);

/// <summary>How the ledger sees a session; called on the ledger's thread only.</summary>
public interface ISessionPort
{
    /// <summary>A notification was stored that reaches the user. It is written once <see cref="Flush"/> is called, so
    /// that what one commit stored leaves in one write.</summary>
    /// <returns>True when a flush is now due that was not due before.</returns>
    bool Offer(NotificationWire wire, long log, long ordinal, long rev, long unread);
    /// <summary>Writes what was offered.</summary>
    void Flush();
    /// <summary>Something else to tell. May be left out for a session that is behind, which hears the totals later.</summary>
    void Tell(ControlMessage message);
    /// <summary>The session has everything up to now: what follows is offered.</summary>
    void EnterLive(IReadOnlyList<(PageItem Item, long Rev, long Unread)> rest, string cursor, long position, Totals totals);
    /// <summary>What the user may see changed: pages read before are void.</summary>
    /// <param name="version">The number of the plan that holds from now on.</param>
    /// <param name="allowed">The logs that are still the user's; what waits from others is dropped. Null: all.</param>
    void PlanChanged(int version, IReadOnlySet<long>? allowed);
    /// <summary>The store can't be read any more: end.</summary>
    void StoreLost();
}
