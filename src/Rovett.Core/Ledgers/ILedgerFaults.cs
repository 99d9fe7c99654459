namespace Rovett.Core.Ledgers;

/// <summary>Is told of faults in the ledger itself. Called on the ledger's thread; must be quick and must not throw.</summary>
public interface ILedgerFaults
{
    /// <summary>A bug: an exception that is neither a refusal nor a store failure. Only the command that threw it fails.</summary>
    /// <param name="space">The space it happened in, if known.</param>
    /// <param name="where">The command or step.</param>
    /// <param name="error">The exception.</param>
    void Bug(string? space, string where, Exception error);

    /// <summary>The store could not be read or written; the commit did not happen.</summary>
    void StoreFailed(Exception error);

    /// <summary>Work that would fail again was set aside: it is kept, and waits for an operator.</summary>
    void SetAside(string space, string what, string why);

    /// <summary>The store takes writes again.</summary>
    void StoreRecovered();

    /// <summary>Another process serves a space from now on.</summary>
    /// <param name="space">The space; empty: what belongs to none.</param>
    void Moved(string space) { }
}
