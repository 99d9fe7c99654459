using System.Data.Common;
using Rovett.Core.Store;

namespace Rovett.Storage.Sql;

/// <summary>A question to a home.</summary>
/// <param name="Sql">The statement.</param>
/// <param name="Values">Its parameters.</param>
/// <param name="Row">Called for each row of the answer.</param>
public sealed record Question(string Sql, object?[] Values, Action<DbDataReader> Row);

/// <summary>A connection that speaks the SQL both homes understand. Parameters are given by order: <c>?1</c>, <c>?2</c> …
/// One thread at a time.</summary>
public interface ISql : IDisposable
{
    /// <summary>Opens a transaction to write in.</summary>
    /// <param name="lasting">False: its commit does not wait for the disk. A crash of the process does not lose it, a
    /// power cut may, until <see cref="Sync"/> or the next commit that lasts.</param>
    void Begin(bool lasting = true);
    /// <summary>Opens a transaction to read in: everything read in it is of one moment.</summary>
    void BeginReading();
    /// <summary>Ends the transaction; what was written is on disk when this returns, unless it was begun otherwise.</summary>
    /// <param name="spaces">The spaces it is about; null: none.</param>
    void Commit(IReadOnlyList<int>? spaces = null);
    /// <summary>Everything committed before is on disk when this returns.</summary>
    void Sync(IReadOnlyList<int>? spaces = null);
    /// <summary>Takes a space: from now on nobody else can write to it.</summary>
    void Own(int space);
    /// <summary>The spaces that may be otherwise by now than when they were last read; told once.</summary>
    IReadOnlyList<int> Changed();
    /// <summary>Whether another has taken one of some spaces; null: no, or it can't be asked now. Does not throw.</summary>
    DeposedException? Deposed(IReadOnlyList<int> spaces);
    /// <summary>Numbers for new rows of a table that nobody else draws.</summary>
    (long From, long To) Numbers(string table);
    /// <summary>Forgets the transaction; does not throw.</summary>
    void Rollback();
    /// <summary>Has what was freed overwritten, where the home keeps it: once the transaction is committed, and at the
    /// latest when it is closed.</summary>
    void ScrubFreed();
    /// <summary>Writes. May be carried out together with what follows, before the next read or the commit.</summary>
    void Run(string sql, params ReadOnlySpan<object?> values);
    /// <summary>Writes a row. May go with other rows of its kind, before anything else is written or read.</summary>
    void Run(RowStatement statement, params ReadOnlySpan<object?> values);
    /// <summary>Every question costs a round trip.</summary>
    bool IsRemote { get; }
    /// <summary>Asks several things at once.</summary>
    void Ask(IReadOnlyList<Question> questions);
    /// <summary>The first column of the first row, when it is a number.</summary>
    long? Number(string sql, params ReadOnlySpan<object?> values);
    /// <summary>The first row, or null.</summary>
    T? One<T>(string sql, Func<DbDataReader, T> read, params ReadOnlySpan<object?> values) where T : class;
    /// <summary>All rows.</summary>
    List<T> All<T>(string sql, Func<DbDataReader, T> read, params ReadOnlySpan<object?> values);
}
