using System.Data.Common;
using System.Security.Cryptography;
using Rovett.Core.Addresses;
using Rovett.Core.Ledgers;
using Rovett.Core.Marks;
using Rovett.Core.Store;

namespace Rovett.Storage.Sql;

/// <summary>The history as the ledger writes it, in the SQL that both homes understand. One connection, one thread.
/// Numbers of logs and people are drawn here, before they are written, so that no answer of the store is waited for.</summary>
public sealed partial class SqlLedgerStore : ILedgerStore, IDisposable
{
    /// <summary>A run of more ordinals than this is a long one.</summary>
    internal const int LongRun = 256;
    const int BlockSize = OrdinalSet.BlockSize;

    readonly ISql sql;
    (long Next, long To) logs = (1, 0), people = (1, 0);
    int answersAdded;

    /// <summary>Takes over an open, migrated database, and makes its first space when it is empty.</summary>
    /// <param name="sql">The connection.</param>
    /// <param name="readsAhead">Read at once what a batch will look up; null: where each question costs a round trip.</param>
    public SqlLedgerStore(ISql sql, bool? readsAhead = null)
    {
        this.sql = sql;
        ReadsAhead = readsAhead ?? sql.IsRemote;
        if (sql.Number("SELECT count(*) FROM store") == 0)
        {
            Begin();
            sql.Run("INSERT INTO store (epoch) VALUES (?1)", Epoch.New().ToString());
            AddSpace("main", RandomNumberGenerator.GetBytes(32));
            Commit();
        }
        Epoch = new Epoch(Guid.ParseExact(sql.One("SELECT epoch FROM store", r => r.GetString(0))!, "N"));
    }

    /// <inheritdoc/>
    public Epoch Epoch { get; }

    /// <inheritdoc/>
    public ClockRow Clock =>
        sql.All("SELECT clock_shift, clock_held_back, clock_held_since, seen_time, seen_due, seen_boot, seen_elapsed FROM store",
        r => new ClockRow(r.GetInt64(0), r.GetInt64(1), r.GetInt64(2), r.GetInt64(3), r.GetInt64(4), r.GetString(5), r.GetInt64(6)))[0];

    /// <inheritdoc/>
    public void SaveClock(ClockRow c) =>
        sql.Run("UPDATE store SET clock_shift=?1, clock_held_back=?2, clock_held_since=?3, seen_time=?4, seen_due=?5, seen_boot=?6, " +
        "seen_elapsed=?7", c.Shift, c.HeldBack, c.HeldSince, c.SeenTime, c.SeenDue, c.Boot, c.SeenElapsed);

    /// <inheritdoc/>
    public void ShiftStanding(long from, long by)
    {
        ahead?.People.Clear();
        sql.Run("UPDATE person SET valid_from=valid_from+?2 WHERE valid_from>=?1", from, by);
        sql.Run("UPDATE tombstone SET valid_from=valid_from+?2 WHERE valid_from>=?1", from, by);
        if (by < 0) sql.Run("UPDATE person SET roles_issued_at=roles_issued_at+?2 WHERE roles_issued_at>=?1", from, by);
    }

    /// <inheritdoc/>
    public void CapStanding(long now, long tolerance)
    {
        ahead?.People.Clear();
        sql.Run("UPDATE person SET valid_from=?1 WHERE valid_from>?2", now, now + tolerance);
        sql.Run("UPDATE tombstone SET valid_from=?1 WHERE valid_from>?2", now, now + tolerance);
        sql.Run("UPDATE person SET roles_issued_at=?1 WHERE roles_issued_at>?2", now, now + tolerance);
    }

    /// <summary>Draws a number. It stays drawn when the batch fails.</summary>
    long Draw(ref (long Next, long To) block, string table)
    {
        if (block.Next > block.To) block = sql.Numbers(table);
        return block.Next++;
    }

    /// <inheritdoc/>
    public void Begin(bool lasting = true)
    {
        ahead = null;
        sql.Begin(lasting);
    }

    /// <inheritdoc/>
    public void Commit(IReadOnlyList<int>? spaces = null)
    {
        ahead = null;
        sql.Commit(spaces);
    }

    /// <inheritdoc/>
    public void Sync(IReadOnlyList<int>? spaces = null) => sql.Sync(spaces);

    /// <inheritdoc/>
    public IReadOnlyList<int> Changed() => sql.Changed();

    /// <inheritdoc/>
    public DeposedException? Deposed(IReadOnlyList<int> spaces) => sql.Deposed(spaces);

    /// <inheritdoc/>
    public void Rollback()
    {
        ahead = null;
        sql.Rollback();
    }

    /// <inheritdoc/>
    public bool IsFailure(Exception error) => StoreFailures.Is(error);

    /// <inheritdoc/>
    public SpaceRow? FindSpace(string name) => FindSpace(name, taking: false);

    /// <inheritdoc/>
    public SpaceRow? TakeSpace(string name) => FindSpace(name, taking: true);

    SpaceRow? FindSpace(string name, bool taking)
    {
        const string Select = "SELECT id, key, floor FROM space WHERE name=?1";
        static Tuple<int, byte[], long> Read(DbDataReader r) => Tuple.Create((int)r.GetInt64(0), Rows.Bytes(r, 1), r.GetInt64(2));
        if (sql.One(Select, Read, name) is not var (id, key, floor)) return null;
        if (taking)
        {
            sql.Own(id);
            (id, key, floor) = sql.One(Select, Read, name) ?? Tuple.Create(id, key, floor); // as it is now that it is owned
        }
        var newest = sql.One("SELECT key, time FROM entry WHERE key>=?1 AND key<=?2 ORDER BY key DESC LIMIT 1",
            r => Tuple.Create(r.GetInt64(0), r.GetInt64(1)), Rows.First(id), Rows.Last(id));
        return new SpaceRow(id, name, key, newest is null ? 0 : Rows.PositionOf(newest.Item1), new StoredTime(newest?.Item2 ?? 0), floor);
    }

    /// <inheritdoc/>
    public SpaceRow AddSpace(string name, byte[] key)
    {
        long id = (sql.Number("SELECT max(id) FROM space") ?? 0) + 1;
        sql.Run("INSERT INTO space (id, name, key) VALUES (?1, ?2, ?3)", id, name, key);
        return new SpaceRow((int)id, name, key, 0, default, 0);
    }

    /// <inheritdoc/>
    public void SaveFloor(int space, long floor) => sql.Run("UPDATE space SET floor=?2 WHERE id=?1", (long)space, floor);

    /// <inheritdoc/>
    public LogRow? FindLog(int space, string key) => Ahead.Use(ahead?.Logs, (space, key), out var known) ? known
        : sql.One(Rows.SelectLog + " WHERE l.space=?1 AND l.key=?2", Rows.Log, (long)space, key);

    /// <inheritdoc/>
    public LogRow? FindLog(long log) => sql.One(Rows.SelectLog + " WHERE l.id=?1", Rows.Log, log);

    /// <inheritdoc/>
    public LogRow AddLog(int space, string key, IReadOnlyList<Address> includes)
    {
        ahead?.Logs.Remove((space, key));
        long id = Draw(ref logs, "log");
        sql.Run("INSERT INTO log (id, space, key) VALUES (?1, ?2, ?3)", id, (long)space, key);
        foreach (var address in includes)
        {
            sql.Run("INSERT INTO audience_address (space, address, log) VALUES (?1, ?2, ?3)", (long)space, address.ToString(), id);
        }
        return new LogRow(id, key, 0, 0, 0, default, 0);
    }

    /// <inheritdoc/>
    public void SaveLog(LogRow log)
    {
        ahead?.ForgetLog(log.Id);
        sql.Run(LogChange, log.Id, log.Key, log.Head, log.HeadPosition, log.Trimmed, log.Lost.Ordinal, log.Lost.Position,
            log.Lost.Time.Micros);
    }

    /// <inheritdoc/>
    public IReadOnlyList<LogRow> AudiencesOf(int space, Address address) =>
        sql.All(Rows.SelectLog + " JOIN audience_address a ON l.id=a.log WHERE a.space=?1 AND a.address=?2", Rows.Log, (long)space,
        address.ToString());

    /// <inheritdoc/>
    public long OrdinalAt(long log, long position) =>
        sql.Number("SELECT ordinal FROM log_item WHERE log=?1 AND position<=?2 ORDER BY position DESC LIMIT 1", log, position) ?? 0;

    /// <inheritdoc/>
    public IReadOnlyList<long> OrdinalsAbout(long log, long subjectHash, long after, long upTo, int limit) =>
        sql.All("SELECT ordinal FROM log_item WHERE log=?1 AND subject=?2 AND ordinal>?3 AND ordinal<=?4 ORDER BY ordinal LIMIT ?5",
        r => r.GetInt64(0), log, subjectHash, after, upTo, (long)limit);

    /// <inheritdoc/>
    public IReadOnlyList<IReadOnlyList<long>> MutedOrdinals(IReadOnlyList<MutedRange> ranges)
    {
        if (ranges.Count == 0) return [];
        var found = ranges.Select(_ => new List<long>()).ToList();
        const string at =
            "COALESCE((SELECT i.ordinal FROM log_item i WHERE i.log=?1 AND i.position<={0} ORDER BY i.position DESC LIMIT 1), 0)";
        sql.Ask([.. ranges.Select((r, n) => new Question("SELECT ordinal FROM log_item WHERE log=?1 AND ordinal>?2 AND ordinal<=?3 AND " +
            $"{(r.IsType ? "type=?4" : "subject=?4 AND type>=0")} AND ordinal>{at.Replace("{0}", "?5", StringComparison.Ordinal)} AND " +
            $"ordinal<={at.Replace("{0}", "?6", StringComparison.Ordinal)} ORDER BY ordinal",
            [r.Log, r.After, r.UpTo, r.Hash, r.Since, r.Until], row => found[n].Add(row.GetInt64(0))))]);
        return found;
    }

    /// <inheritdoc/>
    public long PositionAt(int space, StoredTime time)
    {
        long lo = sql.Number("SELECT floor FROM space WHERE id=?1", (long)space) ?? 0;
        long hi = Math.Max(lo,
            Rows.PositionOf(
            sql.Number("SELECT key FROM entry WHERE key>=?1 AND key<=?2 ORDER BY key DESC LIMIT 1", Rows.First(space), Rows.Last(space))
            ?? 0));
        return PositionAt(sql, space, lo, hi, time);
    }

    /// <summary>The newest position up to a time, between two positions. Times rise with positions, so the tree of entries is the
    /// index: it is halved.</summary>
    internal static long PositionAt(ISql sql, int space, long lo, long hi, StoredTime time)
    {
        while (lo < hi)
        {
            long middle = lo + (hi - lo + 1) / 2;
            if (sql.Number("SELECT time FROM entry WHERE key=?1", Rows.Key(space, middle)) <= time.Micros) lo = middle;
            else hi = middle - 1;
        }
        return lo;
    }

    /// <inheritdoc/>
    public void AppendEntry(int space, EntryRow entry) =>
        sql.Run(NewEntry, Rows.Key(space, entry.Position.Value), entry.Time.Micros, (long)entry.Kind,
            entry.Id == default ? null : Rows.IdBytes(entry.Id), entry.Body, entry.Addressing.Lines, Rows.PlacementBytes(entry.Placements),
            entry.Traits.Type, entry.Traits.Subject, (long)entry.Traits.Receipts,
            entry.Traits.TakeFor is { } takeFor ? (long)takeFor.TotalMicroseconds : null);

    /// <inheritdoc/>
    public void AppendItem(long log, long ordinal, long position, long? subjectHash, long typeHash)
    {
        ahead?.ForgetLog(log);
        sql.Run(NewItem, log, ordinal, position, subjectHash, typeHash);
    }

    static readonly RowStatement NewEntry = new(RowMode.Append, "entry", ["key", "time", "kind", "id", "body", "addressing", "placements",
        "type", "subject", "receipts", "take_for"], "nnnbbtbttnn", keys: 1);
    static readonly RowStatement NewItem = new(RowMode.Append, "log_item", ["log", "ordinal", "position", "subject", "type"], "nnnnn",
        keys: 2);
    static readonly RowStatement LogChange = new(RowMode.Update, "log", ["id", "key", "head", "head_position", "trimmed", "lost_ordinal",
        "lost_position", "lost_time"], "ntnnnnnn", keys: 1);

    /// <inheritdoc/>
    public void AppendChange(long log, JournalRow change)
    {
        ahead?.ForgetLog(log);
        sql.Run("INSERT INTO change (log, position, ordinal, kind, turn) VALUES (?1, ?2, ?3, ?4, ?5)", log, change.Position, change.Ordinal,
            (long)change.Kind, (long)change.Turn);
    }

    /// <inheritdoc/>
    public IReadOnlyList<JournalRow> ChangesSince(long log, long position, int limit) =>
        sql.All(Rows.SelectChange + " WHERE log=?1 AND position>?2 ORDER BY position LIMIT ?3", Rows.Change, log, position, (long)limit);

    /// <inheritdoc/>
    public JournalRow? NewestChange(long log, long position, OrdinalRun ordinals) =>
        sql.All(Rows.SelectChange +
        " WHERE log=?1 AND position>?2 AND ordinal>=?3 AND ordinal<=?4 AND kind<>6 ORDER BY position DESC LIMIT 1", Rows.Change, log,
        position, ordinals.From, ordinals.To) is [var newest] ? newest : null;

    /// <inheritdoc/>
    public void AddSkip(long log, long person, long ordinal)
    {
        ahead?.UserLogs.Remove(person);
        sql.Run("INSERT INTO skip (person, log, ordinal) VALUES (?1, ?2, ?3) ON CONFLICT DO NOTHING", person, log, ordinal);
        sql.Run("INSERT INTO user_log (person, log, parts) VALUES (?1, ?2, ?3) ON CONFLICT (person, log) DO UPDATE SET " +
            "parts=user_log.parts|?3, gone=NULL", person, log, (long)UserLogParts.Skips);
    }

    /// <inheritdoc/>
    public EntryRow? FindNotification(int space, NotificationId id) =>
        sql.One(Rows.SelectEntry + " WHERE kind=1 AND id=?1 AND key>=?2 AND key<=?3", Rows.Entry, Rows.IdBytes(id), Rows.First(space),
        Rows.Last(space));

    /// <inheritdoc/>
    public EntryRow? FindEntry(int space, long position) =>
        sql.One(Rows.SelectEntry + " WHERE key=?1", Rows.Entry, Rows.Key(space, position));

    /// <inheritdoc/>
    public IReadOnlyList<EntryRow> Entries(int space, long from, int limit) =>
        sql.All(Rows.SelectEntry + " WHERE key>=?1 AND key<=?2 ORDER BY key LIMIT ?3", Rows.Entry, Rows.Key(space, from), Rows.Last(space),
        (long)limit);

    /// <inheritdoc/>
    public void RewriteEntry(int space, long position, byte[] body, Addressing addressing) =>
        sql.Run("UPDATE entry SET body=?2, addressing=?3 WHERE key=?1", Rows.Key(space, position), body, addressing.Lines);

    /// <inheritdoc/>
    public IdempotencyRow? FindAnswer(int space, string key, StoredTime notBefore) =>
        Ahead.Use(ahead?.Answers, (space, key), out var known)
            ? known is { } ready && ready.Time >= notBefore ? ready.Row : null
            : sql.One("SELECT body_hash, id, position FROM answer WHERE space=?1 AND key=?2 AND time>=?3", ReadAnswer, (long)space, key,
                notBefore.Micros);

    static IdempotencyRow ReadAnswer(DbDataReader r) => new(Rows.Bytes(r, 0), Rows.Id(Rows.Bytes(r, 1)), new Position(r.GetInt64(2)));

    /// <inheritdoc/>
    public void AddAnswer(int space, string key, IdempotencyRow answer, StoredTime time)
    {
        ahead?.Answers.Remove((space, key));
        // Those that no longer count go now and then, with those that come.
        if (answersAdded++ % 256 == 0)
        {
            sql.Run("DELETE FROM answer WHERE space=?1 AND time<?2", (long)space,
                time.Micros - (long)Idempotency.KeptFor.TotalMicroseconds);
        }
        sql.Run("INSERT INTO answer (space, key, body_hash, id, position, time) VALUES (?1, ?2, ?3, ?4, ?5, ?6) ON CONFLICT (space, " +
            "key) DO UPDATE SET body_hash=?3, id=?4, position=?5, time=?6",
            (long)space, key, answer.BodyHash, Rows.IdBytes(answer.Id), answer.Position.Value, time.Micros);
    }

    /// <inheritdoc/>
    public long? FindSlot(int space, string key) => sql.Number("SELECT position FROM slot WHERE space=?1 AND key=?2", (long)space, key);

    /// <inheritdoc/>
    public void SaveSlot(int space, string key, long position) =>
        sql.Run("INSERT INTO slot (space, key, position) VALUES (?1, ?2, ?3) ON CONFLICT (space, key) DO UPDATE SET position=?3",
        (long)space, key, position);

    /// <inheritdoc/>
    public void Dispose() => sql.Dispose();
}
