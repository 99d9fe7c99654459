using System.Data.Common;
using Rovett.Core.Notifications;
using Rovett.Core.Store;

namespace Rovett.Storage.Sql;

/// <summary>Due work, deadlines and takings.</summary>
public sealed partial class SqlLedgerStore
{
    /// <inheritdoc/>
    public void AddDue(int space, DueRow due) =>
        sql.Run("INSERT INTO due (space, at, kind, position, number) VALUES (?1, ?2, ?3, ?4, ?5) ON CONFLICT DO NOTHING", (long)space,
        due.At.Micros, (long)due.Kind, due.Position, (long)due.Number);

    /// <inheritdoc/>
    public void RemoveDue(int space, DueRow due) =>
        sql.Run("DELETE FROM due WHERE space=?1 AND at=?2 AND kind=?3 AND position=?4 AND number=?5", (long)space, due.At.Micros,
        (long)due.Kind, due.Position, (long)due.Number);

    /// <inheritdoc/>
    public IReadOnlyList<DueRow> Due(int space, StoredTime upTo, int limit) =>
        sql.All("SELECT at, kind, position, number FROM due WHERE space=?1 AND at<=?2 ORDER BY at, kind, position, number LIMIT ?3",
            r => new DueRow(new StoredTime(r.GetInt64(0)), (DueKind)r.GetInt64(1), r.GetInt64(2), (int)r.GetInt64(3)), (long)space,
            upTo.Micros, (long)limit);

    /// <inheritdoc/>
    public long SetAside(int space, SetAsideRow row) =>
        sql.Number("INSERT INTO set_aside (space, time, kind, position, why, detail, origin) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7) " +
        "RETURNING number", (long)space, row.Time.Micros, (long)row.Kind, row.Position, row.Why, row.Detail, row.Origin)!.Value;

    const string SelectTake = "SELECT position, person, log, ordinal, until FROM take";

    static TakeRow Take(DbDataReader r) =>
        new(r.GetInt64(0), r.GetInt64(1), new Placement(r.GetInt64(2), r.GetInt64(3)),
        Rows.Number(r, 4) is { } until ? new StoredTime(until) : null);

    /// <inheritdoc/>
    public TakeRow? FindTake(int space, long position) =>
        sql.One(SelectTake + " WHERE space=?1 AND position=?2", Take, (long)space, position);

    /// <inheritdoc/>
    public IReadOnlyList<TakeRow> TakesOf(long person) => ahead?.Takes.Remove(person, out var known) == true ? known :
        sql.All(SelectTake + " WHERE person=?1 ORDER BY position", Take, person);

    /// <inheritdoc/>
    public IReadOnlyList<long> TakenOf(long log) => sql.All("SELECT ordinal FROM take WHERE log=?1", r => r.GetInt64(0), log);

    /// <inheritdoc/>
    public void AddTake(int space, TakeRow take)
    {
        ahead?.Takes.Clear();
        sql.Run("INSERT INTO take (space, position, person, log, ordinal, until) VALUES (?1, ?2, ?3, ?4, ?5, ?6)", (long)space,
            take.Position, take.Person, take.Place.Log, take.Place.Ordinal, take.Until?.Micros);
    }

    /// <inheritdoc/>
    public void RemoveTake(int space, long position)
    {
        ahead?.Takes.Clear();
        sql.Run("DELETE FROM take WHERE space=?1 AND position=?2", (long)space, position);
    }

    /// <inheritdoc/>
    public void SaveDeadline(int space, DeadlineRow d) =>
        sql.Run("INSERT INTO deadline (space, position, number, by_state, within, for_each, at, state, ended) VALUES (?1, ?2, ?3, ?4, " +
        "?5, ?6, ?7, ?8, ?9) ON CONFLICT (space, position, number) DO UPDATE SET state=?8, ended=?9", (long)space, d.Position,
        (long)d.Number, (long)d.Terms.By, (long)d.Terms.Within.TotalMicroseconds, d.Terms.Each ? 1L : 0L, d.At.Micros, (long)d.State,
        d.Ended?.Micros);

    /// <inheritdoc/>
    public IReadOnlyList<DeadlineRow> Deadlines(int space, long position) => DeadlinesOf(sql, space, position);

    internal static IReadOnlyList<DeadlineRow> DeadlinesOf(ISql sql, int space, long position) =>
        [.. sql.All("SELECT number, by_state, within, for_each, at, state, ended FROM deadline WHERE space=?1 AND position=?2 " +
        "ORDER BY number", r => new DeadlineRow(position, (int)r.GetInt64(0),
            new DeadlineTerms((ReceiptState)r.GetInt64(1), TimeSpan.FromMicroseconds(r.GetInt64(2)), r.GetInt64(3) != 0, []),
            new StoredTime(r.GetInt64(4)), (DeadlineState)r.GetInt64(5), Rows.Number(r, 6) is { } ended ? new StoredTime(ended) : null),
            (long)space, position).Select(d => WithOtherwise(sql, space, d))];

    static DeadlineRow WithOtherwise(ISql sql, int space, DeadlineRow deadline)
    {
        var rows = OtherwiseOf(sql, space, deadline.Position, deadline.Number);
        return rows.Count == 0 ? deadline
            : deadline with { Terms = deadline.Terms with { Otherwise = [.. rows.Select(r => r.What)] }, Otherwise = rows };
    }
}
