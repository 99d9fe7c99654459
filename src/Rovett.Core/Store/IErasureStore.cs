using Rovett.Core.Addresses;

namespace Rovett.Core.Store;

/// <summary>Erasing a person, step by step. Part of <see cref="ILedgerStore"/>.</summary>
public interface IErasureStore
{
    /// <summary>Removes everything a person has marked, muted or followed, and the person's grants.</summary>
    void ErasePerson(long person);
    /// <summary>The erasures under way, oldest first.</summary>
    IReadOnlyList<ErasureRow> Erasures(int space);
    /// <summary>The erasure of an id that is under way, or null.</summary>
    ErasureRow? FindErasure(int space, string name);
    /// <summary>Stores an erasure.</summary>
    void SaveErasure(int space, ErasureRow erasure);
    /// <summary>An erasure is done.</summary>
    void RemoveErasure(int space, long person);
    /// <summary>Has the store overwrite what was freed, where it keeps that: soon, and at the latest when it is closed.</summary>
    void ScrubFreed();
    /// <summary>From when on credentials of an erased id hold; null: nobody was erased by that id.</summary>
    long? FindTombstone(int space, byte[] idHash);
    /// <summary>Whether a space has any.</summary>
    bool HasTombstones(int space);
    /// <summary>Stores one, in place of another of the same id.</summary>
    void SaveTombstone(int space, byte[] idHash, long validFrom, long person);
    /// <summary>Removes the one of a person.</summary>
    void RemoveTombstone(int space, long person);
    /// <summary>Notifications that missed deadlines of notifications in (<paramref name="after"/>, <paramref name="upTo"/>]
    /// send: to whom.</summary>
    IReadOnlyList<(long Position, int Deadline, int Item, Addressing Addressing)> OtherwiseAfter(int space, long after, long upTo,
        int limit);
    /// <summary>Gives one another addressing; null: nothing is sent.</summary>
    void RewriteOtherwise(int space, long position, int deadline, int item, Addressing? addressing);
    /// <summary>Slots with what was put there in (<paramref name="after"/>, <paramref name="upTo"/>].</summary>
    IReadOnlyList<(long Position, string Key)> SlotsAfter(int space, long after, long upTo, int limit);
    /// <summary>Empties a slot.</summary>
    void RemoveSlot(int space, string key);
    /// <summary>Work set aside after a number.</summary>
    IReadOnlyList<(long Number, string Detail)> SetAsideAfter(int space, long after, int limit);
    /// <summary>Gives it another detail.</summary>
    void RewriteSetAside(long number, string detail);
    /// <summary>A log's notifications after an ordinal, oldest first.</summary>
    IReadOnlyList<(long Ordinal, long Position)> ItemsAfter(long log, long after, int limit);
    /// <summary>Forgets the types and subjects of all notifications of a log.</summary>
    void EraseItems(long log);
    /// <summary>Some notifications that a person is left out of by name; position 0: no longer stored.</summary>
    IReadOnlyList<(long Log, long Ordinal, long Position)> SkipsOf(long person, int limit);
    /// <summary>Forgets that a person is left out of one.</summary>
    void RemoveSkip(long person, long log, long ordinal);
    /// <summary>Forgets the devices in a person's receipts in numbers (<paramref name="after"/>, <paramref name="upTo"/>].</summary>
    void ForgetDevices(int space, long person, long after, long upTo);
}
