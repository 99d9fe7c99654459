namespace Rovett.Core.Store;

/// <summary>The store as the ledger sees it: called by one thread only, everything between <see cref="Begin"/> and
/// <see cref="Commit"/> becomes true together or not at all. Every method may throw; the ledger then rolls back.</summary>
public interface ILedgerStore : IClockStore, ISpaceStore, ILogStore, IEntryStore, IPeopleStore, IMarkStore, IDueStore, IReceiptStore,
    IErasureStore, ITopicStore, IEventStore, IOutboundStore, IIntakeStore
{
    /// <summary>Opens the transaction of a batch.</summary>
    /// <param name="lasting">False: its commit does not wait for the disk. A crash of the process does not lose it, a
    /// power cut may, until <see cref="Sync"/> or the next commit that lasts.</param>
    void Begin(bool lasting = true);
    /// <summary>Every question costs a round trip, so that what will be looked up is to be said before.</summary>
    bool ReadsAhead { get; }
    /// <summary>Reads at once what a batch will look up.</summary>
    void ReadAhead(int space, AheadList what);
    /// <summary>Returns once the batch is on disk, unless it was begun otherwise.</summary>
    /// <param name="spaces">The spaces that it used; null: it is about none.</param>
    /// <exception cref="DeposedException">Nothing is stored: another has taken one of them.</exception>
    /// <exception cref="InDoubtException">It is not known whether it is stored.</exception>
    void Commit(IReadOnlyList<int>? spaces = null);
    /// <summary>Returns once everything committed before is on disk.</summary>
    /// <param name="spaces">As for <see cref="Commit"/>.</param>
    void Sync(IReadOnlyList<int>? spaces = null);
    /// <summary>The spaces that may be otherwise by now than when they were last read; asked after <see cref="Begin"/>, told
    /// once.</summary>
    IReadOnlyList<int> Changed();
    /// <summary>Whether another has taken one of some spaces; asked after <see cref="Rollback"/>. Does not throw.</summary>
    /// <returns>What tells so; null: no, or it can't be asked now.</returns>
    DeposedException? Deposed(IReadOnlyList<int> spaces);
    /// <summary>Forgets the batch; must not throw.</summary>
    void Rollback();
    /// <summary>Whether something thrown means that the store can't be read or written now. Anything else is a bug.</summary>
    bool IsFailure(Exception error);
    /// <summary>The store's present life.</summary>
    Epoch Epoch { get; }
}
