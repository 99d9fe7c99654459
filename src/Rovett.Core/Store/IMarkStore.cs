using Rovett.Core.Marks;

namespace Rovett.Core.Store;

/// <summary>Marks, and what is counted of them. Part of <see cref="ILedgerStore"/>.</summary>
public interface IMarkStore : IMarkSource
{
    /// <summary>Leaves one person out of one notification of an audience log.</summary>
    void AddSkip(long log, long person, long ordinal);
    /// <summary>What is stored of a user in each log.</summary>
    IReadOnlyList<UserLogRow> UserLogs(long person);
    /// <summary>Stores a user's row of a log.</summary>
    void SaveUserLog(long person, UserLogRow row);
    /// <summary>The user's memberships changed: nothing computed from them is still valid.</summary>
    void ForgetUserLogs(long person);
    /// <summary>Stores a block, or removes it when <paramref name="bits"/> is null.</summary>
    void SaveBlock(long person, long log, MarkKind kind, int block, byte[]? bits, int count);
    /// <summary>Stores when, and by which device, a run was marked.</summary>
    void AddRun(long person, long log, MarkKind kind, OrdinalRun run, StoredTime time, string device);
    /// <summary>Forgets when ordinals of a run were marked: they no longer are.</summary>
    void ClearRun(long person, long log, MarkKind kind, OrdinalRun run);
    /// <summary>Adds to the difference at an ordinal of how many people have marked what (the sum up to an ordinal is its count).</summary>
    void AddTally(long log, MarkKind kind, long ordinal, long difference);
    /// <summary>How many people have marked an ordinal.</summary>
    long Tally(long log, MarkKind kind, long ordinal);
}
