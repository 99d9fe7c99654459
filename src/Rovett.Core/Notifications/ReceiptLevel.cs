namespace Rovett.Core.Notifications;

/// <summary>The detail in which receipts are kept.</summary>
public enum ReceiptLevel
{
    /// <summary>Nothing.</summary>
    None = 0,
    /// <summary>How many people have it in each state.</summary>
    Totals = 1,
    /// <summary>Who, when, by which device.</summary>
    Full = 2,
}
