namespace Rovett.Core.Store;

/// <summary>Due work, deadlines and takings. Part of <see cref="ILedgerStore"/>.</summary>
public interface IDueStore
{
    /// <summary>Notes what is due.</summary>
    void AddDue(int space, DueRow due);
    /// <summary>Removes due work that is done or void.</summary>
    void RemoveDue(int space, DueRow due);
    /// <summary>Due work up to a time, the earliest first.</summary>
    IReadOnlyList<DueRow> Due(int space, StoredTime upTo, int limit);
    /// <summary>Sets something aside.</summary>
    /// <returns>Its number.</returns>
    long SetAside(int space, SetAsideRow row);
    /// <summary>The taker of a notification, or null.</summary>
    TakeRow? FindTake(int space, long position);
    /// <summary>The notifications a user has taken.</summary>
    IReadOnlyList<TakeRow> TakesOf(long person);
    /// <summary>The taken ordinals of a log.</summary>
    IReadOnlyList<long> TakenOf(long log);
    /// <summary>Stores a taking.</summary>
    void AddTake(int space, TakeRow take);
    /// <summary>Removes a taking.</summary>
    void RemoveTake(int space, long position);
    /// <summary>Stores a deadline.</summary>
    void SaveDeadline(int space, DeadlineRow deadline);
    /// <summary>The deadlines of a notification.</summary>
    IReadOnlyList<DeadlineRow> Deadlines(int space, long position);
}
