namespace Rovett.Core.Notifications;

/// <summary>The states that a receipt reports.</summary>
public enum ReceiptState
{
    /// <summary>A device acknowledged it.</summary>
    Received = 1,
    /// <summary>The person saw it.</summary>
    Read = 2,
    /// <summary>A device's handler ran.</summary>
    Handled = 3,
    /// <summary>The person made it unread again.</summary>
    UnreadAgain = 4,
    /// <summary>It was taken over.</summary>
    Taken = 5,
    /// <summary>It was released to all its recipients.</summary>
    Released = 6,
    /// <summary>It was withdrawn.</summary>
    Withdrawn = 7,
    /// <summary>It was replaced.</summary>
    Replaced = 8,
    /// <summary>It expired.</summary>
    Expired = 9,
    /// <summary>A deadline was met.</summary>
    DeadlineMet = 10,
    /// <summary>A deadline was missed.</summary>
    DeadlineMissed = 11,
}
