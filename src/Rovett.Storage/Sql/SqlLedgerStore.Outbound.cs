using System.Data.Common;
using Rovett.Core.Addresses;
using Rovett.Core.Notifications;
using Rovett.Core.Store;

namespace Rovett.Storage.Sql;

/// <summary>What is done when deadlines are missed.</summary>
public sealed partial class SqlLedgerStore
{
    const long NotificationKind = 1, WebhookKind = 2, MailKind = 3;

    /// <inheritdoc/>
    public void SaveOtherwise(int space, long position, int deadline, OtherwiseRow row)
    {
        var (kind, target) = row.What switch
        {
            OtherwiseNotification n => (NotificationKind, n.Draft.Addressing.Lines),
            OtherwiseWebhook w => (WebhookKind, w.Name),
            OtherwiseMail m => (MailKind, m.To),
            _ => throw new ArgumentOutOfRangeException(nameof(row)),
        };
        var draft = (row.What as OtherwiseNotification)?.Draft;
        var mail = row.What as OtherwiseMail;
        sql.Run("INSERT INTO otherwise (space, position, deadline, item, kind, target, title, text, body, type, subject, receipts, " +
            "state, time, sent, always) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13, ?14, ?15, ?16) ON CONFLICT " +
            "(space, position, " +
            "deadline, item) DO UPDATE SET target=?6, state=?13, time=?14, sent=?15", (long)space, position, (long)deadline,
            (long)row.Item, kind, target, mail?.Title, mail?.Body, draft?.Body, draft?.Traits.Type, draft?.Traits.Subject,
            (long)(draft?.Traits.Receipts ?? ReceiptLevel.None), (long)row.State, row.Time?.Micros,
            row.Sent is { } sent ? Rows.IdBytes(sent) : null, draft?.Traits.IsAlways == true ? 1L : 0L);
    }

    internal static IReadOnlyList<OtherwiseRow> OtherwiseOf(ISql sql, int space, long position, int deadline) =>
        sql.All("SELECT item, kind, target, title, text, body, type, subject, receipts, state, time, sent, always FROM otherwise " +
        "WHERE space=?1 AND position=?2 AND deadline=?3 ORDER BY item", OtherwiseIn, (long)space, position, (long)deadline);

    static OtherwiseRow OtherwiseIn(DbDataReader r)
    {
        var target = r.GetString(2);
        Otherwise what = r.GetInt64(1) switch
        {
            NotificationKind => new OtherwiseNotification(DraftOf(new Addressing(target), Rows.Bytes(r, 5),
                new NotificationTraits(r.GetString(6), Rows.Text(r, 7), (ReceiptLevel)r.GetInt64(8), null)
                { IsAlways = r.GetInt64(12) != 0 })),
            WebhookKind => new OtherwiseWebhook(target),
            _ => new OtherwiseMail(target, Rows.Text(r, 3), Rows.Text(r, 4)),
        };
        return new OtherwiseRow((int)r.GetInt64(0), what, (OtherwiseState)r.GetInt64(9),
            Rows.Number(r, 10) is { } time ? new StoredTime(time) : null, r.IsDBNull(11) ? null : Rows.Id(Rows.Bytes(r, 11)));
    }

    static Draft DraftOf(Addressing addressing, byte[] body, NotificationTraits traits) =>
        new(Rows.Addresses(addressing.To), Rows.Addresses(addressing.Except), body, traits);

    /// <inheritdoc/>
    public void EraseOtherwise(int space, long position) =>
        sql.Run("DELETE FROM otherwise WHERE space=?1 AND position=?2", (long)space, position);

    /// <inheritdoc/>
    public long MailsSince(int space, StoredTime time) =>
        sql.Number("SELECT count(*) FROM otherwise WHERE space=?1 AND time>?2 AND kind=3 AND state=2", (long)space, time.Micros) ?? 0;

    const string SelectOutbound =
        "SELECT number, at, position, deadline, item, begun, attempts, error, detail FROM outbound WHERE space=?1";

    static OutboundRow Outbound(DbDataReader r) => new(r.GetInt64(0), new StoredTime(r.GetInt64(1)), r.GetInt64(2), (int)r.GetInt64(3),
        (int)r.GetInt64(4), new StoredTime(r.GetInt64(5)), (int)r.GetInt64(6), Rows.Text(r, 7), r.GetString(8));

    /// <inheritdoc/>
    public long AddOutbound(int space, OutboundRow row) =>
        sql.Number("INSERT INTO outbound (space, at, position, deadline, item, begun, attempts, error, detail) VALUES " +
        "(?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9) RETURNING number", (long)space, row.At.Micros, row.Position, (long)row.Deadline,
        (long)row.Item, row.Begun.Micros, (long)row.Attempts, row.Error, row.Detail)!.Value;

    /// <inheritdoc/>
    public IReadOnlyList<OutboundRow> OutboundDue(int space, StoredTime upTo, int limit) =>
        sql.All(SelectOutbound + " AND at<=?2 ORDER BY at, number LIMIT ?3", Outbound, (long)space, upTo.Micros, (long)limit);

    /// <inheritdoc/>
    public StoredTime? NextOutbound(int space) =>
        sql.Number("SELECT at FROM outbound WHERE space=?1 ORDER BY at LIMIT 1", (long)space) is { } at ? new StoredTime(at) : null;

    /// <inheritdoc/>
    public OutboundRow? FindOutbound(int space, long number) =>
        sql.One(SelectOutbound + " AND number=?2", Outbound, (long)space, number);

    /// <inheritdoc/>
    public void SaveOutbound(int space, OutboundRow row) =>
        sql.Run("UPDATE outbound SET at=?3, attempts=?4, error=?5, detail=?6 WHERE space=?1 AND number=?2", (long)space, row.Number,
        row.At.Micros, (long)row.Attempts, row.Error, row.Detail);

    /// <inheritdoc/>
    public void RemoveOutbound(int space, long number) =>
        sql.Run("DELETE FROM outbound WHERE space=?1 AND number=?2", (long)space, number);

    /// <inheritdoc/>
    public IReadOnlyList<OutboundRow> OutboundAfter(int space, long number, int limit) =>
        sql.All(SelectOutbound + " AND number>?2 ORDER BY number LIMIT ?3", Outbound, (long)space, number, (long)limit);
}
