using Rovett.Core.Addresses;

namespace Rovett.Core.Store;

/// <summary>Logs, and the places of notifications in them. Part of <see cref="ILedgerStore"/>.</summary>
public interface ILogStore
{
    /// <summary>A log by its key, or null.</summary>
    LogRow? FindLog(int space, string key);
    /// <summary>A log by its number, or null.</summary>
    LogRow? FindLog(long log);
    /// <summary>Makes a log; <paramref name="includes"/> are the addresses by which an audience is found.</summary>
    LogRow AddLog(int space, string key, IReadOnlyList<Address> includes);
    /// <summary>Stores a log's key, head, and what retention took of it.</summary>
    void SaveLog(LogRow log);
    /// <summary>The audience logs that include an address.</summary>
    IReadOnlyList<LogRow> AudiencesOf(int space, Address address);
    /// <summary>The highest ordinal of a log whose position is at most <paramref name="position"/>; 0 when none is.</summary>
    long OrdinalAt(long log, long position);
    /// <summary>The ordinals of a log in (<paramref name="after"/>, <paramref name="upTo"/>] about a subject: the
    /// lowest of them, at most <paramref name="limit"/>.</summary>
    IReadOnlyList<long> OrdinalsAbout(long log, long subjectHash, long after, long upTo, int limit = int.MaxValue);
    /// <summary>For each of some mutes, the ordinals of a log of its type, or about its subject, that can be muted; all are asked for at
    /// once. Of a type: looks at each.</summary>
    IReadOnlyList<IReadOnlyList<long>> MutedOrdinals(IReadOnlyList<MutedRange> ranges);
    /// <summary>The last position stored at or before a time; 0 when none was.</summary>
    long PositionAt(int space, StoredTime time);
    /// <summary>Writes a notification's place in a log; one whose type is below zero can't be muted.</summary>
    void AppendItem(long log, long ordinal, long position, long? subjectHash, long typeHash);
    /// <summary>Writes a change of one notification in one log.</summary>
    void AppendChange(long log, JournalRow change);
    /// <summary>The changes of a log after a position, oldest first.</summary>
    IReadOnlyList<JournalRow> ChangesSince(long log, long position, int limit);
    /// <summary>The newest change of a log after a position that is about an ordinal of a range; null when there is none.</summary>
    JournalRow? NewestChange(long log, long position, OrdinalRun ordinals);
    /// <summary>Removes what a log holds up to an ordinal: places, skips, marks' runs.</summary>
    void TrimLog(long log, long upTo);
    /// <summary>The newest notifications of a log after an ordinal, newest first.</summary>
    IReadOnlyList<(long Ordinal, long Position)> NewestItems(long log, long after, int limit);
}
