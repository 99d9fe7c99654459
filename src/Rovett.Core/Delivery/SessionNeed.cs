namespace Rovett.Core.Delivery;

/// <summary>What a session needs next from the log or the ledger.</summary>
public enum SessionNeed
{
    /// <summary>Nothing.</summary>
    None,
    /// <summary>The next page of its logs.</summary>
    Page,
    /// <summary>To be fed live: it has everything its logs had.</summary>
    GoLive,
    /// <summary>Notifications again whose handler failed.</summary>
    Again,
}
