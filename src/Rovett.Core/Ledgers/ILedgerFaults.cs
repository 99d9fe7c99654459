namespace Rovett.Core.Ledgers;

/// <summary>Hears what goes wrong in the ledger itself. Called on the ledger's thread; must be quick and must not throw.</summary>
public interface ILedgerFaults
{
    /// <summary>A bug: something threw that is neither a refusal nor a failure of the store. It is confined to what had it.</summary>
    /// <param name="space">The space it happened in, if known.</param>
    /// <param name="where">The command or step.</param>
    /// <param name="error">What was thrown.</param>
    void Bug(string? space, string where, Exception error);

    /// <summary>The store could not be read or written; the commit did not happen.</summary>
    void StoreFailed(Exception error);

    /// <summary>Something could not be carried out that would fail again: it is kept, and waits for an operator.</summary>
    void SetAside(string space, string what, string why);

    /// <summary>The store takes writes again.</summary>
    void StoreRecovered();
}
