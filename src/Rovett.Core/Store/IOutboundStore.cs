namespace Rovett.Core.Store;

/// <summary>What is done when deadlines are missed, and what goes out for it. Part of <see cref="ILedgerStore"/>.</summary>
public interface IOutboundStore
{
    /// <summary>Stores something that is done when a deadline is missed, or what became of it.</summary>
    void SaveOtherwise(int space, long position, int deadline, OtherwiseRow row);
    /// <summary>Removes what the deadlines of a notification were to do.</summary>
    void EraseOtherwise(int space, long position);
    /// <summary>How many e-mails were sent since a time.</summary>
    long MailsSince(int space, StoredTime time);
    /// <summary>Adds a call or an e-mail.</summary>
    /// <returns>Its number.</returns>
    long AddOutbound(int space, OutboundRow row);
    /// <summary>Calls and e-mails due, the earliest first.</summary>
    IReadOnlyList<OutboundRow> OutboundDue(int space, StoredTime upTo, int limit);
    /// <summary>When the next one is due; null: there is none.</summary>
    StoredTime? NextOutbound(int space);
    /// <summary>One by its number, or null.</summary>
    OutboundRow? FindOutbound(int space, long number);
    /// <summary>Stores what changed of one.</summary>
    void SaveOutbound(int space, OutboundRow row);
    /// <summary>Removes one.</summary>
    void RemoveOutbound(int space, long number);
    /// <summary>Those after a number.</summary>
    IReadOnlyList<OutboundRow> OutboundAfter(int space, long number, int limit);
}
