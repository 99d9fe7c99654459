using Rovett.Core.Addresses;

namespace Rovett.Core.Store;

/// <summary>Entries, and what makes a send safe to repeat or take the place of another. Part of <see cref="ILedgerStore"/>.</summary>
public interface IEntryStore
{
    /// <summary>Writes an entry.</summary>
    void AppendEntry(int space, EntryRow entry);
    /// <summary>A notification by its id, or null.</summary>
    EntryRow? FindNotification(int space, NotificationId id);
    /// <summary>An entry by its position, or null.</summary>
    EntryRow? FindEntry(int space, long position);
    /// <summary>The entries from a position on, in order.</summary>
    IReadOnlyList<EntryRow> Entries(int space, long from, int limit);
    /// <summary>Rewrites the text of an entry (a person is erased).</summary>
    void RewriteEntry(int space, long position, byte[] body, Addressing addressing);
    /// <summary>The same, and forgets its type and subject.</summary>
    void EraseEntry(int space, long position, byte[] body, Addressing addressing);
    /// <summary>Entries in positions (<paramref name="after"/>, <paramref name="upTo"/>] that say who took something
    /// over or missed a deadline.</summary>
    IReadOnlyList<EntryRow> ActsIn(int space, long after, long upTo);
    /// <summary>The stored answer of an idempotency key, or null; older ones than <paramref name="notBefore"/> do not count.</summary>
    IdempotencyRow? FindAnswer(int space, string key, StoredTime notBefore);
    /// <summary>Stores an answer.</summary>
    void AddAnswer(int space, string key, IdempotencyRow answer, StoredTime time);
    /// <summary>The position of the notification in a slot, or null.</summary>
    long? FindSlot(int space, string key);
    /// <summary>Puts a notification into a slot.</summary>
    void SaveSlot(int space, string key, long position);
    /// <summary>Removes entries up to a position, with what hangs on them: changes, takings, slots, deadlines, dues.</summary>
    void TrimEntries(int space, long upTo);
}
