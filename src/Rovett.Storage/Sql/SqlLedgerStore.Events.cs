using System.Data.Common;
using Rovett.Core.Notifications;
using Rovett.Core.Store;

namespace Rovett.Storage.Sql;

/// <summary>Events, gatherings and rules.</summary>
public sealed partial class SqlLedgerStore
{
    const string SelectGathering =
        "SELECT number, key, id, rule, events, closes, body, except_too, receipts, first FROM gathering WHERE space=?1";

    static GatheringRow Gathering(DbDataReader r) => new(r.GetInt64(0), Rows.Bytes(r, 1), Rows.Id(Rows.Bytes(r, 2)), r.GetString(3),
        (int)r.GetInt64(4), new StoredTime(r.GetInt64(5)), Rows.Bytes(r, 6), r.GetString(7), (ReceiptLevel)r.GetInt64(8),
        Rows.Number(r, 9));

    internal static EventRow? EventOf(ISql sql, int space, string source, string id) =>
        sql.One("SELECT hash, time, type, subject, trace, outcome, content FROM event WHERE space=?1 AND source=?2 AND id=?3",
        r => new EventRow(source, id, Rows.Bytes(r, 0), new StoredTime(r.GetInt64(1)), r.GetString(2), Rows.Text(r, 3), Rows.Text(r, 4),
        Rows.Bytes(r, 5))
        { Content = r.IsDBNull(6) ? null : Rows.Bytes(r, 6) }, (long)space, source, id);

    /// <inheritdoc/>
    public EventRow? FindEvent(int space, string source, string id) =>
        Ahead.Use(ahead?.Events, (space, source, id), out var known) ? known : EventOf(sql, space, source, id);

    /// <inheritdoc/>
    public void SaveEvent(int space, EventRow row)
    {
        ahead?.Events.Remove((space, row.Source, row.Id));
        sql.Run("INSERT INTO event (space, source, id, hash, time, type, subject, trace, outcome, content) VALUES (?1, ?2, ?3, ?4, ?5, " +
        "?6, ?7, ?8, ?9, ?10) ON CONFLICT (space, source, id) DO UPDATE SET outcome=?9", (long)space, row.Source, row.Id, row.Hash,
        row.Time.Micros, row.Type, row.Subject, row.Trace, row.Outcome, row.Content);
    }

    /// <inheritdoc/>
    public IReadOnlyList<EventRow> EventsAfter(int space, StoredTime time, int limit)
    {
        long until = sql.Number("SELECT time FROM event WHERE space=?1 AND time>?2 ORDER BY time LIMIT 1 OFFSET ?3",
            (long)space, time.Micros, limit - 1L) ?? long.MaxValue;
        return sql.All("SELECT source, id, hash, time, type, subject, trace, outcome, content FROM event WHERE space=?1 AND time>?2 AND " +
            "time<=?3 ORDER BY time", ListedEvent, (long)space, time.Micros, until);
    }

    internal static EventRow ListedEvent(System.Data.Common.DbDataReader r) => new(r.GetString(0), r.GetString(1), Rows.Bytes(r, 2),
        new StoredTime(r.GetInt64(3)), r.GetString(4), Rows.Text(r, 5), Rows.Text(r, 6), Rows.Bytes(r, 7))
    {
        Content = r.IsDBNull(8) ? null : Rows.Bytes(r, 8),
    };

    /// <inheritdoc/>
    public void RewriteEvent(int space, EventRow row) =>
        sql.Run("UPDATE event SET subject=?4, content=?5 WHERE space=?1 AND source=?2 AND id=?3", (long)space, row.Source, row.Id,
        row.Subject, row.Content);

    /// <inheritdoc/>
    public void AddOrigin(int space, NotificationId notification, string source, string eventId, string rule) =>
        sql.Run("INSERT INTO origin (space, notification, source, event, rule) VALUES (?1, ?2, ?3, ?4, ?5) ON CONFLICT DO NOTHING",
        (long)space, Rows.IdBytes(notification), source, eventId, rule);

    /// <inheritdoc/>
    public int TrimEvents(int space, StoredTime before, int limit)
    {
        ahead?.Events.Clear();
        var old = sql.All("SELECT source, id FROM event WHERE space=?1 AND time<?2 ORDER BY time LIMIT ?3",
            r => (r.GetString(0), r.GetString(1)), (long)space, before.Micros, (long)limit);
        foreach (var (source, id) in old)
        {
            sql.Run("DELETE FROM event WHERE space=?1 AND source=?2 AND id=?3", (long)space, source, id);
        }
        return old.Count;
    }

    /// <inheritdoc/>
    public void TrimOrigins(int space, NotificationId below) =>
        sql.Run("DELETE FROM origin WHERE space=?1 AND notification<?2", (long)space, Rows.IdBytes(below));

    /// <inheritdoc/>
    public void AddRules(int space, RulesVersion version) => AddVersion("rules", space, version);

    /// <inheritdoc/>
    public RulesVersion? RulesUpTo(int space, long position) => VersionUpTo("rules", space, position);

    /// <inheritdoc/>
    public void AddCatalogue(int space, RulesVersion version) => AddVersion("catalogue", space, version);

    /// <inheritdoc/>
    public RulesVersion? CatalogueUpTo(int space, long position) => VersionUpTo("catalogue", space, position);

    void AddVersion(string table, int space, RulesVersion version) =>
        sql.Run($"INSERT INTO {table} (key, time, document) VALUES (?1, ?2, ?3)", Rows.Key(space, version.Position), version.Time.Micros,
        version.Document);

    RulesVersion? VersionUpTo(string table, int space, long position) =>
        sql.One($"SELECT key, time, document FROM {table} WHERE key>=?1 AND key<=?2 ORDER BY key DESC LIMIT 1",
        r => new RulesVersion(Rows.PositionOf(r.GetInt64(0)), new StoredTime(r.GetInt64(1)), Rows.Bytes(r, 2)), Rows.First(space),
        Rows.Key(space, position));

    /// <inheritdoc/>
    public GatheringRow? FindGathering(int space, byte[] key) =>
        sql.One(SelectGathering + " AND key=?2", Gathering, (long)space, key);

    /// <inheritdoc/>
    public GatheringRow? FindGathering(int space, long number) =>
        sql.One(SelectGathering + " AND number=?2", Gathering, (long)space, number);

    /// <inheritdoc/>
    public GatheringRow? FindGathering(int space, NotificationId id) =>
        sql.One(SelectGathering + " AND id=?2", Gathering, (long)space, Rows.IdBytes(id));

    /// <inheritdoc/>
    public long AddGathering(int space, GatheringRow row) =>
        sql.Number("INSERT INTO gathering (space, key, id, rule, events, closes, body, except_too, receipts, first) VALUES (?1, ?2, ?3, " +
        "?4, ?5, ?6, ?7, ?8, ?9, ?10) RETURNING number", (long)space, row.Key, Rows.IdBytes(row.Id), row.Rule, (long)row.Events,
        row.Closes.Micros, row.Body, row.ExceptToo, (long)row.Receipts, row.First)!.Value;

    /// <inheritdoc/>
    public void SaveGathering(int space, GatheringRow row) =>
        sql.Run("UPDATE gathering SET events=?3, body=?4, except_too=?5, receipts=?6 WHERE space=?1 AND number=?2", (long)space, row.Number,
        (long)row.Events, row.Body, row.ExceptToo, (long)row.Receipts);

    /// <inheritdoc/>
    public void RemoveGathering(int space, long number) =>
        sql.Run("DELETE FROM gathering WHERE space=?1 AND number=?2", (long)space, number);

    /// <inheritdoc/>
    public IReadOnlyList<GatheringRow> GatheringsAfter(int space, long number, int limit) =>
        sql.All(SelectGathering + " AND number>?2 ORDER BY number LIMIT ?3", Gathering, (long)space, number, (long)limit);

    /// <inheritdoc/>
    public long NewestGathering() => sql.Number("SELECT max(number) FROM gathering") ?? 0;

    /// <inheritdoc/>
    public long CountGatherings(int space) => sql.Number("SELECT count(*) FROM gathering WHERE space=?1", (long)space) ?? 0;

    internal const string SelectAside = "SELECT number, time, kind, position, why, detail FROM set_aside WHERE space=?1";

    internal static SetAsideRow Aside(DbDataReader r) =>
        new(new StoredTime(r.GetInt64(1)), (AsideKind)r.GetInt64(2), r.GetInt64(3), r.GetString(4), r.GetString(5))
        { Number = r.GetInt64(0) };

    /// <inheritdoc/>
    public SetAsideRow? FindSetAside(int space, long number) => sql.One(SelectAside + " AND number=?2", Aside, (long)space, number);

    /// <inheritdoc/>
    public void RemoveSetAside(int space, long number) =>
        sql.Run("DELETE FROM set_aside WHERE space=?1 AND number=?2", (long)space, number);

    /// <inheritdoc/>
    public (long Count, long Size) SetAsideSize(int space) =>
        sql.All("SELECT count(*), CAST(COALESCE(sum(length(detail)), 0) AS BIGINT) FROM set_aside WHERE space=?1",
        r => (r.GetInt64(0), r.GetInt64(1)), (long)space)[0];
}
