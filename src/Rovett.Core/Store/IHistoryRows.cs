using Rovett.Core.Marks;

namespace Rovett.Core.Store;

/// <summary>The rows of the history at one moment. It fetches; who may see what is decided by <see cref="Visibility"/>.</summary>
public interface IHistoryRows : IMarkSource
{
    /// <summary>What is stored of a person in each log.</summary>
    IReadOnlyList<UserLogRow> UserLogs(long person);
    /// <summary>Entries of a space up to this position are no longer stored.</summary>
    long Floor(int space);
    /// <summary>Ordinals of a log up to this one are no longer stored.</summary>
    long Trimmed(long log);
    /// <summary>The notifications a person has taken.</summary>
    IReadOnlyList<Placement> TakenBy(long person);
    /// <summary>The highest ordinal of a log at or before a position; 0 when there is none.</summary>
    long OrdinalAt(long log, long position);
    /// <summary>The notifications of a run of a log.</summary>
    /// <param name="log">The log.</param>
    /// <param name="run">The run.</param>
    /// <param name="limit">The most to fetch.</param>
    /// <param name="newestFirst">From the end of the run.</param>
    IReadOnlyList<(long Ordinal, long Position)> Items(long log, OrdinalRun run, int limit, bool newestFirst);
    /// <summary>What became of notifications of a log, after one position and up to another, oldest first; not what
    /// retention did.</summary>
    IReadOnlyList<(long Position, long Ordinal)> Changes(long log, long after, long upTo, int limit);
    /// <summary>When a person marked an ordinal; null: never.</summary>
    StoredTime? MarkedAt(long log, MarkKind kind, long person, long ordinal);
    /// <summary>The notifications of a run by the hash of their type, with one position of each type and how many there are.</summary>
    IReadOnlyList<(long Type, long Position, long Count)> TypesIn(long log, OrdinalRun run);
    /// <summary>The ordinals of a log about a subject, by its hash.</summary>
    IReadOnlyList<long> OrdinalsAbout(long log, long subjectHash);
    /// <summary>An entry at a position, or null.</summary>
    EntryRow? Entry(int space, long position);
    /// <summary>A notification by its id, or null.</summary>
    EntryRow? Notification(int space, NotificationId id);
    /// <summary>The entries at positions that are stored.</summary>
    IReadOnlyDictionary<long, EntryRow> Entries(int space, IReadOnlyList<long> positions);
    /// <summary>The outgoing part of the entries at sorted positions, in that order; others that lie between may be among them.</summary>
    IEnumerable<(long Position, EntryText Text)> Texts(int space, IReadOnlyList<long> positions);
}
