using System.Data.Common;
using Rovett.Core.Addresses;
using Rovett.Core.Store;

namespace Rovett.Storage.Sql;

/// <summary>The store's part of erasing a person.</summary>
public sealed partial class SqlLedgerStore
{
    /// <inheritdoc/>
    public void ErasePerson(long person)
    {
        ahead = null;
        foreach (long log in sql.All("SELECT log FROM user_log WHERE person=?1", r => r.GetInt64(0), person))
        {
            for (long kind = 1; kind <= 3; kind++)
            {
                sql.Run("DELETE FROM mark_run WHERE log=?1 AND kind=?2 AND person=?3", log, kind, person);
            }
        }
        sql.Run("DELETE FROM user_log WHERE person=?1", person);
        sql.Run("DELETE FROM mark_block WHERE person=?1 AND log>0", person);
        sql.Run("DELETE FROM mute WHERE person=?1", person);
        sql.Run("DELETE FROM follow WHERE person=?1", person);
        sql.Run("DELETE FROM topic_grant WHERE person=?1 AND person<>0", person);
    }

    const string SelectErasure = "SELECT person, name, log, position, receipt, stage, at, scrubbed, began, gathering FROM erasure";

    static ErasureRow Erasure(DbDataReader r) =>
        new(r.GetInt64(0), r.GetString(1), r.GetInt64(2), r.GetInt64(3), r.GetInt64(4), (ErasureStage)r.GetInt64(5), r.GetInt64(6),
        r.GetInt64(7), new StoredTime(r.GetInt64(8)))
        { Gathering = r.GetInt64(9) };

    /// <inheritdoc/>
    public IReadOnlyList<ErasureRow> Erasures(int space) => sql.All(SelectErasure + " WHERE space=?1 ORDER BY began", Erasure, (long)space);

    /// <inheritdoc/>
    public ErasureRow? FindErasure(int space, string name) =>
        sql.One(SelectErasure + " WHERE space=?1 AND name=?2", Erasure, (long)space, name);

    /// <inheritdoc/>
    public void SaveErasure(int space, ErasureRow e)
    {
        ahead = null;
        sql.Run("INSERT INTO erasure (space, person, name, log, position, receipt, stage, at, scrubbed, began, gathering) VALUES (?1, " +
        "?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11) ON CONFLICT (space, person) DO UPDATE SET stage=?7, at=?8, scrubbed=?9",
            (long)space, e.Person, e.Name, e.Log, e.Position, e.Receipt, (long)e.Stage, e.At, e.Scrubbed, e.Began.Micros, e.Gathering);
    }

    /// <inheritdoc/>
    public void RemoveErasure(int space, long person) => sql.Run("DELETE FROM erasure WHERE space=?1 AND person=?2", (long)space, person);

    /// <inheritdoc/>
    public void ScrubFreed() => sql.ScrubFreed();

    /// <inheritdoc/>
    public long? FindTombstone(int space, byte[] idHash) =>
        sql.Number("SELECT valid_from FROM tombstone WHERE space=?1 AND id_hash=?2", (long)space, idHash);

    /// <inheritdoc/>
    public bool HasTombstones(int space) => sql.Number("SELECT 1 FROM tombstone WHERE space=?1 LIMIT 1", (long)space) is not null;

    /// <inheritdoc/>
    public void SaveTombstone(int space, byte[] idHash, long validFrom, long person) =>
        sql.Run("INSERT INTO tombstone (space, id_hash, valid_from, number) VALUES (?1, ?2, ?3, ?4) ON CONFLICT (space, id_hash) DO " +
        "UPDATE SET valid_from=?3, number=?4", (long)space, idHash, validFrom, person);

    /// <inheritdoc/>
    public void RemoveTombstone(int space, long person) =>
        sql.Run("DELETE FROM tombstone WHERE space=?1 AND number=?2", (long)space, person);

    /// <inheritdoc/>
    public void EraseEntry(int space, long position, byte[] body, Addressing addressing) =>
        sql.Run("UPDATE entry SET body=?2, addressing=?3, type='', subject=NULL WHERE key=?1", Rows.Key(space, position), body,
        addressing.Lines);

    /// <inheritdoc/>
    public IReadOnlyList<EntryRow> ActsIn(int space, long after, long upTo) =>
        sql.All(Rows.SelectEntry + " WHERE key>?1 AND key<=?2 AND kind IN (7, 10) ORDER BY key", Rows.Entry, Rows.Key(space, after),
        Rows.Key(space, upTo));

    /// <inheritdoc/>
    public IReadOnlyList<(long Position, int Deadline, int Item, Addressing Addressing)> OtherwiseAfter(int space, long after, long upTo,
        int limit) =>
        sql.All("SELECT position, deadline, item, target FROM otherwise WHERE space=?1 AND position>?2 AND position<=?3 AND kind=1 " +
        "ORDER BY position, deadline, item LIMIT ?4",
            r => (r.GetInt64(0), (int)r.GetInt64(1), (int)r.GetInt64(2), new Addressing(r.GetString(3))), (long)space, after, upTo,
            (long)limit);

    /// <inheritdoc/>
    public void RewriteOtherwise(int space, long position, int deadline, int item, Addressing? addressing)
    {
        const string one = " WHERE space=?1 AND position=?2 AND deadline=?3 AND item=?4";
        if (addressing is null) sql.Run("DELETE FROM otherwise" + one, (long)space, position, (long)deadline, (long)item);
        else
        {
            sql.Run("UPDATE otherwise SET target=?5" + one, (long)space, position, (long)deadline, (long)item, addressing.Value.Lines);
        }
    }

    /// <inheritdoc/>
    public IReadOnlyList<(long Position, string Key)> SlotsAfter(int space, long after, long upTo, int limit) =>
        sql.All("SELECT position, key FROM slot WHERE space=?1 AND position>?2 AND position<=?3 ORDER BY position LIMIT ?4",
        r => (r.GetInt64(0), r.GetString(1)), (long)space, after, upTo, (long)limit);

    /// <inheritdoc/>
    public void RemoveSlot(int space, string key) => sql.Run("DELETE FROM slot WHERE space=?1 AND key=?2", (long)space, key);

    /// <inheritdoc/>
    public IReadOnlyList<(long Number, string Detail)> SetAsideAfter(int space, long after, int limit) =>
        sql.All("SELECT number, detail FROM set_aside WHERE space=?1 AND number>?2 ORDER BY number LIMIT ?3",
        r => (r.GetInt64(0), r.GetString(1)), (long)space, after, (long)limit);

    /// <inheritdoc/>
    public void RewriteSetAside(long number, string detail) => sql.Run("UPDATE set_aside SET detail=?2 WHERE number=?1", number, detail);

    /// <inheritdoc/>
    public IReadOnlyList<(long Ordinal, long Position)> ItemsAfter(long log, long after, int limit) =>
        sql.All("SELECT ordinal, position FROM log_item WHERE log=?1 AND ordinal>?2 ORDER BY ordinal LIMIT ?3",
        r => (r.GetInt64(0), r.GetInt64(1)), log, after, (long)limit);

    /// <inheritdoc/>
    public void EraseItems(long log) => sql.Run("UPDATE log_item SET subject=NULL, type=0 WHERE log=?1", log);

    /// <inheritdoc/>
    public IReadOnlyList<(long Log, long Ordinal, long Position)> SkipsOf(long person, int limit) =>
        sql.All("SELECT s.log, s.ordinal, COALESCE(i.position, 0) FROM skip s LEFT JOIN log_item i ON i.log=s.log AND " +
        "i.ordinal=s.ordinal WHERE s.person=?1 ORDER BY s.log, s.ordinal LIMIT ?2",
            r => (r.GetInt64(0), r.GetInt64(1), r.GetInt64(2)), person, (long)limit);

    /// <inheritdoc/>
    public void RemoveSkip(long person, long log, long ordinal) =>
        sql.Run("DELETE FROM skip WHERE person=?1 AND log=?2 AND ordinal=?3", person, log, ordinal);

    /// <inheritdoc/>
    public void ForgetDevices(int space, long person, long after, long upTo) =>
        sql.Run("UPDATE receipt SET device='' WHERE key>?1 AND key<=?2 AND person=?3 AND device<>''", Rows.Key(space, after),
        Rows.Key(space, upTo), person);

    /// <inheritdoc/>
    public IReadOnlyList<(long Number, string Detail)> ReceiptDetails(int space, long after, long upTo) =>
        sql.All("SELECT key, detail FROM receipt WHERE key>?1 AND key<=?2 AND detail<>'' ORDER BY key",
        r => (Rows.PositionOf(r.GetInt64(0)), r.GetString(1)), Rows.Key(space, after), Rows.Key(space, upTo));
}
