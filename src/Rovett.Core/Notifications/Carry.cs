namespace Rovett.Core.Notifications;

/// <summary>How much of a notification is sent to devices; the rest is fetched when it is needed.</summary>
public enum Carry
{
    /// <summary>All of it.</summary>
    Full = 0,
    /// <summary>All but body and data.</summary>
    Summary = 1,
    /// <summary>Only what says what it is and whom it concerns: no title, link, body or data.</summary>
    Reference = 2,
}
