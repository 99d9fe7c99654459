using Rovett.Core.Store;

namespace Rovett.Storage.Sql;

/// <summary>Receipts, and what retention takes.</summary>
public sealed partial class SqlLedgerStore
{
    /// <inheritdoc/>
    public long LastReceipt(int space) =>
        Rows.PositionOf(
        sql.Number("SELECT key FROM receipt WHERE key>=?1 AND key<=?2 ORDER BY key DESC LIMIT 1", Rows.First(space), Rows.Last(space))
        ?? 0);

    /// <inheritdoc/>
    public void AppendReceipt(int space, ReceiptRow r) =>
        sql.Run(NewReceipt, Rows.Key(space, r.Number), r.Time.Micros, (long)r.State, r.Log, r.Run.From, r.Run.To, r.Person, r.Device,
            r.Position, r.Detail);

    static readonly RowStatement NewReceipt = new(RowMode.Append, "receipt", ["key", "time", "state", "log", "from_ord", "to_ord", "person",
        "device", "position", "detail"], "nnnnnnntnt", keys: 1);

    /// <inheritdoc/>
    public void RewriteReceipt(int space, long number, string detail) =>
        sql.Run("UPDATE receipt SET detail=?2 WHERE key=?1", Rows.Key(space, number), detail);

    /// <inheritdoc/>
    public void TrimLog(long log, long upTo)
    {
        sql.Run("DELETE FROM log_item WHERE log=?1 AND ordinal<=?2", log, upTo);
        sql.Run("DELETE FROM skip WHERE log=?1 AND ordinal<=?2", log, upTo);
        for (long kind = 1; kind <= 3; kind++)
        {
            sql.Run("DELETE FROM mark_run WHERE log=?1 AND kind=?2 AND is_long IN (0, 1) AND from_ord<=?3 AND to_ord<=?3", log, kind, upTo);
            // The sums of whole blocks stay: what comes after is counted from them. Those of a part become one.
            long whole = upTo / BlockSize * BlockSize;
            long part = sql.Number(
                "SELECT CAST(sum(difference) AS BIGINT) FROM tally WHERE log=?1 AND kind=?2 AND ordinal>?3 AND ordinal<=?4", log, kind,
                whole, upTo) ?? 0;
            sql.Run("DELETE FROM tally WHERE log=?1 AND kind=?2 AND ordinal<=?3", log, kind, upTo);
            if (part != 0) sql.Run("INSERT INTO tally (log, kind, ordinal, difference) VALUES (?1, ?2, ?3, ?4)", log, kind, upTo, part);
        }
    }

    /// <inheritdoc/>
    public void TrimEntries(int space, long upTo)
    {
        ahead?.Takes.Clear();
        ahead?.Memberships.Clear();
        long last = Rows.Key(space, upTo);
        foreach (var (position, placements) in sql.All(
            "SELECT key, placements FROM entry WHERE key>=?1 AND key<=?2 AND kind BETWEEN 3 AND 8",
            r => (Rows.PositionOf(r.GetInt64(0)), Rows.Placements(Rows.Bytes(r, 1))), Rows.First(space), last))
        {
            foreach (var place in placements) sql.Run("DELETE FROM change WHERE log=?1 AND position=?2", place.Log, position);
        }
        sql.Run("DELETE FROM entry WHERE key>=?1 AND key<=?2", Rows.First(space), last);
        sql.Run("DELETE FROM take WHERE space=?1 AND position<=?2", (long)space, upTo);
        sql.Run("DELETE FROM slot WHERE space=?1 AND position<=?2", (long)space, upTo);
        sql.Run("DELETE FROM deadline WHERE space=?1 AND position<=?2", (long)space, upTo);
        sql.Run("DELETE FROM otherwise WHERE space=?1 AND position<=?2", (long)space, upTo);
        sql.Run("DELETE FROM set_aside WHERE space=?1 AND position<=?2 AND kind<=2", (long)space, upTo);
        // Roles' grants of the past decide for those who were away.
        sql.Run("DELETE FROM topic_grant WHERE space=?1 AND role='' AND ended<=?2", (long)space, upTo);
        sql.Run("DELETE FROM membership WHERE space=?1 AND until<=?2", (long)space, upTo);
    }

    /// <inheritdoc/>
    public StoredTime? OldestReceipt(int space) =>
        sql.Number("SELECT time FROM receipt WHERE key>=?1 AND key<=?2 ORDER BY key LIMIT 1", Rows.First(space), Rows.Last(space))
        is { } time ? new StoredTime(time) : null;

    /// <inheritdoc/>
    public int TrimReceipts(int space, StoredTime before, int limit)
    {
        // Asked several times a second: mostly nothing is old enough.
        if (!(sql.Number("SELECT time FROM receipt WHERE key>=?1 AND key<=?2 ORDER BY key LIMIT 1", Rows.First(space),
            Rows.Last(space)) < before.Micros))
        {
            return 0;
        }
        var old = sql.All("SELECT key, time FROM receipt WHERE key>=?1 AND key<=?2 ORDER BY key LIMIT ?3",
            r => (Key: r.GetInt64(0), Time: r.GetInt64(1)), Rows.First(space), Rows.Last(space), (long)limit);
        // The newest stays, because the next is numbered after it.
        long last = Math.Min(old.FindLast(r => r.Time < before.Micros).Key, Rows.Key(space, LastReceipt(space) - 1));
        int count = old.FindIndex(r => r.Key > last) is var end && end < 0 ? old.Count : end;
        if (count > 0) sql.Run("DELETE FROM receipt WHERE key>=?1 AND key<=?2", Rows.First(space), last);
        return count;
    }
}
