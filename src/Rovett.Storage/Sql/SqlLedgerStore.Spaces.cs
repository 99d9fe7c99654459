using Rovett.Core.Store;

namespace Rovett.Storage.Sql;

/// <summary>Spaces that come and go.</summary>
public sealed partial class SqlLedgerStore
{
    // No name may hold a control character.
    const string RemovedPrefix = "\u0001removed-", AfterRemoved = "\u0001removed.";

    /// <summary>The names of the spaces, oldest first.</summary>
    public IReadOnlyList<string> Spaces() =>
        sql.All("SELECT name FROM space ORDER BY id", r => r.GetString(0)).FindAll(name => !name.StartsWith('\u0001'));

    /// <summary>What there is to do in each space.</summary>
    public IReadOnlyList<AgendaRow> Agenda() =>
        sql.All("SELECT s.name, (SELECT min(at) FROM due WHERE space=s.id), " +
            $"(SELECT time FROM entry WHERE {Keys} ORDER BY key LIMIT 1), (SELECT time FROM receipt WHERE {Keys} ORDER BY key LIMIT 1), " +
            $"(SELECT key FROM entry WHERE {Keys} ORDER BY key DESC LIMIT 1), s.floor, (SELECT count(*) FROM erasure WHERE space=s.id), " +
            "(SELECT number FROM outbound WHERE space=s.id LIMIT 1) FROM space s ORDER BY s.id", r =>
            {
                var times = new[] { Rows.Number(r, 2), Rows.Number(r, 3) }.Where(t => t is not null).ToList();
                return new AgendaRow(r.GetString(0), Rows.Number(r, 1) is { } due ? new StoredTime(due) : null,
                    times.Count > 0 ? new StoredTime(times.Min()!.Value) : null,
                    Rows.Number(r, 4) is { } newest ? Rows.PositionOf(newest) - r.GetInt64(5) : 0, r.GetInt64(6) > 0, !r.IsDBNull(7));
            });

    /// <summary>Every space as it is opened at a start, oldest first.</summary>
    public IReadOnlyList<OpenedSpace> OpenAll() => OpenedSpace.All(sql);

    internal static readonly string Keys = $"key>=s.id*{1L << Rows.SpaceShift} AND key<(s.id+1)*{1L << Rows.SpaceShift}";

    /// <inheritdoc/>
    public void RemoveSpace(int space) => sql.Run("UPDATE space SET name=?2 WHERE id=?1", (long)space, $"{RemovedPrefix}{space}");

    /// <inheritdoc/>
    public bool Purge(int limit)
    {
        if (sql.Number("SELECT id FROM space WHERE name>=?1 AND name<?2 ORDER BY name LIMIT 1", RemovedPrefix, AfterRemoved)
            is not { } space)
        {
            return false;
        }
        if (PurgeKeys("entry", space, limit) || PurgeKeys("receipt", space, limit) || PurgePeople(space, limit) || PurgeLogs(space, limit))
        {
            return true;
        }
        if (PurgeEvents(space, limit)) return true;
        PurgeKeys("policies", space, int.MaxValue);
        PurgeKeys("rules", space, int.MaxValue);
        PurgeKeys("catalogue", space, int.MaxValue);
        // Memberships went with the people; all of these have an index that begins with the space.
        foreach (var table in new[] { "audience_address", "address", "answer", "due", "slot", "take", "role", "deadline", "otherwise",
            "outbound", "set_aside", "tombstone", "erasure", "topic_grant", "gathering", "origin", "intake", "intake_position" })
        {
            sql.Run($"DELETE FROM {table} WHERE space=?1", space);
        }
        sql.Run("DELETE FROM space WHERE id=?1", space);
        return true;
    }

    bool PurgeEvents(long space, int limit) => TrimEvents((int)space, new StoredTime(long.MaxValue), limit) > 0;

    bool PurgeKeys(string table, long space, int limit)
    {
        long first = Rows.First((int)space);
        var some = sql.All($"SELECT key FROM {table} WHERE key>=?1 AND key<=?2 ORDER BY key LIMIT ?3", r => r.GetInt64(0), first,
            Rows.Last((int)space), (long)limit);
        if (some.Count > 0) sql.Run($"DELETE FROM {table} WHERE key>=?1 AND key<=?2", first, some[^1]);
        return some.Count > 0;
    }

    bool PurgePeople(long space, int limit)
    {
        var some = sql.All("SELECT id FROM person WHERE space=?1 ORDER BY id LIMIT ?2", r => r.GetInt64(0), space, (long)limit);
        foreach (long person in some)
        {
            foreach (var table in new[] { "skip", "user_log", "mark_block", "membership", "mute", "follow" })
            {
                sql.Run($"DELETE FROM {table} WHERE person=?1", person);
            }
            sql.Run("DELETE FROM person WHERE id=?1", person);
        }
        return some.Count > 0;
    }

    bool PurgeLogs(long space, int limit)
    {
        if (sql.Number("SELECT id FROM log WHERE space=?1 ORDER BY id LIMIT 1", space) is not { } log) return false;
        foreach (var (table, column) in new[] { ("log_item", "ordinal"), ("change", "position") })
        {
            var some = sql.All($"SELECT {column} FROM {table} WHERE log=?1 ORDER BY {column} LIMIT ?2", r => r.GetInt64(0), log,
                (long)limit);
            if (some.Count == 0) continue;
            sql.Run($"DELETE FROM {table} WHERE log=?1 AND {column}<=?2", log, some[^1]);
            return true;
        }
        foreach (var (table, column) in new[] { ("mark_run", "from_ord"), ("tally", "ordinal") })
        {
            for (long kind = 1; kind <= 3; kind++)
            {
                var some = sql.All(
                    $"SELECT {column} FROM {table} WHERE log=?1 AND kind=?2 " +
                    $"{(table == "mark_run" ? "AND is_long IN (0, 1) " : "")}ORDER BY {column} LIMIT ?3", r => r.GetInt64(0), log, kind,
                    (long)limit);
                if (some.Count == 0) continue;
                sql.Run($"DELETE FROM {table} WHERE log=?1 AND kind=?2 AND {column}<=?3", log, kind, some[^1]);
                return true;
            }
        }
        sql.Run("DELETE FROM tally_block WHERE log=?1", log);
        sql.Run("DELETE FROM mark_block WHERE person=0 AND log=?1", log);
        sql.Run("DELETE FROM log WHERE id=?1", log);
        return true;
    }
}
