using Rovett.Core.Addresses;
using Rovett.Core.Marks;
using Rovett.Core.Store;
using Rovett.Core.Wire;

namespace Rovett.Core.Ledgers;

/// <summary>Is told of events once they are on disk; called on the ledger's thread, must be quick.</summary>
public interface ILedgerObserver
{
    /// <summary>A notification was stored.</summary>
    void Stored(string space, OutgoingEntry notification, Addressing addressing, IReadOnlyList<Placement> placements);
    /// <summary>A notification changed.</summary>
    void Changed(string space, OutgoingEntry change);
    /// <summary>Ordinals of a log were received, handled or read by one more user, or (<paramref name="sign"/> −1) are
    /// unread again.</summary>
    void Marked(string space, long log, OrdinalRun run, MarkKind kind, int sign);
    /// <summary>Receipts were written that the backend may hear.</summary>
    void Receipted(string space);
    /// <summary>Webhook calls or e-mails are to be made.</summary>
    void Outbound(string space);
    /// <summary>A deadline ended.</summary>
    void DeadlineEnded(string space, bool isMet);
    /// <summary>A person was erased: nothing that names the id may be shown from then on.</summary>
    void Erased(string space, string user);
}
