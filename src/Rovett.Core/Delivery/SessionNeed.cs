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
    /// <summary>Notifications once more, whose handler failed.</summary>
    Again,
}
