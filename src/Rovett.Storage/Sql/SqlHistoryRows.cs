using System.Data.Common;
using Rovett.Core.Marks;
using Rovett.Core.Store;

namespace Rovett.Storage.Sql;

/// <summary>Fetches rows of the history in one reading transaction.</summary>
sealed class SqlHistoryRows(ISql sql) : IHistoryRows
{
    const int KeysAtOnce = 32;
    static readonly string AtAnyKey =
        $" WHERE key IN ({string.Join(',', Enumerable.Range(1, KeysAtOnce).Select(i => $"?{i}"))}) ORDER BY key";
    static readonly string SelectTexts = Rows.SelectText + AtAnyKey, SelectEntries = Rows.SelectEntry + AtAnyKey;
    const string SelectStretch = Rows.SelectText + " WHERE key>=?1 AND key<=?2 AND id IS NOT NULL ORDER BY key";

    public IReadOnlyList<UserLogRow> UserLogs(long person) => sql.All(Rows.SelectUserLogs, Rows.UserLog, person);

    public long Floor(int space) => sql.Number("SELECT floor FROM space WHERE id=?1", (long)space) ?? 0;

    public long Trimmed(long log) => sql.Number("SELECT trimmed FROM log WHERE id=?1", log) ?? 0;

    public IReadOnlyList<Placement> TakenBy(long person) =>
        sql.All("SELECT log, ordinal FROM take WHERE person=?1", r => new Placement(r.GetInt64(0), r.GetInt64(1)), person);

    public IBlockSource Blocks(long person, long log, MarkKind kind) => new StoredBlocks(sql, person, log, kind);

    public OrdinalSet Skips(long person, long log) => Rows.Skips(sql, person, log);

    public long OrdinalAt(long log, long position) =>
        sql.Number("SELECT ordinal FROM log_item WHERE log=?1 AND position<=?2 ORDER BY position DESC LIMIT 1", log, position) ?? 0;

    public IReadOnlyList<(long Ordinal, long Position)> Items(long log, OrdinalRun run, int limit, bool newestFirst) =>
        sql.All(newestFirst
            ? "SELECT ordinal, position FROM log_item WHERE log=?1 AND ordinal>=?2 AND ordinal<=?3 ORDER BY ordinal DESC LIMIT ?4"
            : "SELECT ordinal, position FROM log_item WHERE log=?1 AND ordinal>=?2 AND ordinal<=?3 ORDER BY ordinal LIMIT ?4",
            r => (r.GetInt64(0), r.GetInt64(1)), log, run.From, run.To, (long)limit);

    public IReadOnlyList<(long Position, long Ordinal)> Changes(long log, long after, long upTo, int limit) =>
        sql.All("SELECT position, ordinal FROM change WHERE log=?1 AND position>?2 AND position<=?3 AND kind<>6 ORDER BY position LIMIT ?4",
            r => (r.GetInt64(0), r.GetInt64(1)), log, after, upTo, (long)limit);

    public StoredTime? MarkedAt(long log, MarkKind kind, long person, long ordinal)
    {
        var run = sql.One("SELECT to_ord, time FROM mark_run WHERE log=?1 AND kind=?2 AND person=?3 AND from_ord<=?4 " +
            "ORDER BY from_ord DESC LIMIT 1", r => Tuple.Create(r.GetInt64(0), r.GetInt64(1)), log, (long)kind, person, ordinal);
        return run is not null && run.Item1 >= ordinal ? new StoredTime(run.Item2) : null;
    }

    public IReadOnlyList<(long Type, long Position, long Count)> TypesIn(long log, OrdinalRun run) =>
        sql.All("SELECT type, min(position), count(*) FROM log_item WHERE log=?1 AND ordinal>=?2 AND ordinal<=?3 GROUP BY type",
            r => (r.GetInt64(0), r.GetInt64(1), r.GetInt64(2)), log, run.From, run.To);

    public IReadOnlyList<long> OrdinalsAbout(long log, long subjectHash) =>
        sql.All("SELECT ordinal FROM log_item WHERE log=?1 AND subject=?2", r => r.GetInt64(0), log, subjectHash);

    public EntryRow? Entry(int space, long position) => EntryAt(sql, space, position);

    public EntryRow? Notification(int space, NotificationId id) => NotificationById(sql, space, id);

    public IReadOnlyDictionary<long, EntryRow> Entries(int space, IReadOnlyList<long> positions)
    {
        var entries = new Dictionary<long, EntryRow>(positions.Count);
        foreach (var entry in AtKeys(space, positions, SelectEntries, Rows.Entry)) entries[entry.Position.Value] = entry;
        return entries;
    }

    /// <summary>Where most of a stretch is asked for, it is read whole: one statement that goes from row to row. What is about no
    /// notification (memberships, policies) is left out: its rows have no id.</summary>
    public IEnumerable<(long Position, EntryText Text)> Texts(int space, IReadOnlyList<long> positions) =>
        positions.Count > 1 && positions[^1] - positions[0] < 2 * positions.Count
            ? sql.All(SelectStretch, Rows.Text, Rows.Key(space, positions[0]), Rows.Key(space, positions[^1]))
            : AtKeys(space, positions, SelectTexts, Rows.Text);

    /// <summary>The rows at positions, many with one statement; in the order of positions among those of one statement.</summary>
    IEnumerable<T> AtKeys<T>(int space, IReadOnlyList<long> positions, string select, Func<DbDataReader, T> read)
    {
        var keys = new object?[KeysAtOnce];
        for (int from = 0; from < positions.Count; from += KeysAtOnce)
        {
            // The last ones are asked for with the last key repeated.
            for (int i = 0; i < KeysAtOnce; i++) keys[i] = Rows.Key(space, positions[Math.Min(from + i, positions.Count - 1)]);
            foreach (var row in sql.All(select, read, keys)) yield return row;
        }
    }

    public static EntryRow? EntryAt(ISql sql, int space, long position) =>
        sql.One(Rows.SelectEntry + " WHERE key=?1", Rows.Entry, Rows.Key(space, position));

    public static EntryRow? NotificationById(ISql sql, int space, NotificationId id) =>
        sql.One(Rows.SelectEntry + " WHERE kind=1 AND id=?1 AND key>=?2 AND key<=?3", Rows.Entry,
            Rows.IdBytes(id), Rows.First(space), Rows.Last(space));
}
