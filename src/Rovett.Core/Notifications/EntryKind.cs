namespace Rovett.Core.Notifications;

/// <summary>The kinds of entry.</summary>
public enum EntryKind
{
    /// <summary>A notification.</summary>
    Notification = 1,
    /// <summary>A user gained or lost roles.</summary>
    Membership = 2,
    /// <summary>A notification was taken back.</summary>
    Withdrawn = 3,
    /// <summary>A newer notification took its slot.</summary>
    Replaced = 4,
    /// <summary>Its time to live is over.</summary>
    Expired = 5,
    /// <summary>Retention took the oldest entries.</summary>
    Trimmed = 6,
    /// <summary>One member of a role took it over.</summary>
    Taken = 7,
    /// <summary>It was released to all its recipients.</summary>
    Released = 8,
    /// <summary>A person was erased.</summary>
    Erased = 9,
    /// <summary>A deadline passed without being met.</summary>
    Missed = 10,
    /// <summary>A user was signed out, blocked, or let in again.</summary>
    Standing = 11,
    /// <summary>Policies were loaded: who may do what on topics.</summary>
    Policies = 12,
    /// <summary>Rules were loaded: which notifications are made of events.</summary>
    Rules = 14,
    /// <summary>A grant was given, or ended.</summary>
    Grant = 13,
    /// <summary>A catalogue of types was loaded.</summary>
    Types = 15,
}
