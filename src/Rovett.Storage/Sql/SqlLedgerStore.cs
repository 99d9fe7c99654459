using System.Data.Common;
using System.Security.Cryptography;
using Rovett.Core.Addresses;
using Rovett.Core.Ledgers;
using Rovett.Core.Marks;
using Rovett.Core.Notifications;
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
    long nextLog, nextPerson;
    int answersAdded;

    /// <summary>Takes over an open, migrated database, and makes its first space when it is empty.</summary>
    public SqlLedgerStore(ISql sql)
    {
        this.sql = sql;
        if (sql.Number("SELECT count(*) FROM store") == 0)
        {
            Begin();
            sql.Run("INSERT INTO store (epoch) VALUES (?1)", Epoch.New().ToString());
            AddSpace("main", RandomNumberGenerator.GetBytes(32));
            Commit();
        }
        Epoch = new Epoch(Guid.ParseExact(sql.One("SELECT epoch FROM store", r => r.GetString(0))!, "N"));
        Count();
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
        sql.Run("UPDATE person SET valid_from=valid_from+?2 WHERE valid_from>=?1", from, by);
        sql.Run("UPDATE tombstone SET valid_from=valid_from+?2 WHERE valid_from>=?1", from, by);
        if (by < 0) sql.Run("UPDATE person SET roles_issued_at=roles_issued_at+?2 WHERE roles_issued_at>=?1", from, by);
    }

    /// <inheritdoc/>
    public void CapStanding(long now, long tolerance)
    {
        sql.Run("UPDATE person SET valid_from=?1 WHERE valid_from>?2", now, now + tolerance);
        sql.Run("UPDATE tombstone SET valid_from=?1 WHERE valid_from>?2", now, now + tolerance);
        sql.Run("UPDATE person SET roles_issued_at=?1 WHERE roles_issued_at>?2", now, now + tolerance);
    }

    void Count()
    {
        nextLog = (sql.Number("SELECT max(id) FROM log") ?? 0) + 1;
        nextPerson = (sql.Number("SELECT max(id) FROM person") ?? 0) + 1;
    }

    /// <inheritdoc/>
    public void Begin(bool lasting = true) => sql.Begin(lasting);

    /// <inheritdoc/>
    public void Commit() => sql.Commit();

    /// <inheritdoc/>
    public void Sync() => sql.Sync();

    /// <inheritdoc/>
    public void Rollback()
    {
        sql.Rollback();
        try
        {
            Count();
        }
        catch (Exception error) when (StoreFailures.Is(error))
        {
            // It can't be read either. The numbers drawn stay drawn: they were not given to anybody else.
        }
    }

    /// <inheritdoc/>
    public bool IsFailure(Exception error) => StoreFailures.Is(error);

    /// <inheritdoc/>
    public SpaceRow? FindSpace(string name)
    {
        if (sql.One("SELECT id, key, floor FROM space WHERE name=?1",
            r => Tuple.Create((int)r.GetInt64(0), Rows.Bytes(r, 1), r.GetInt64(2)), name) is not var (id, key, floor))
        {
            return null;
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
    public LogRow? FindLog(int space, string key) => sql.One(Rows.SelectLog + " WHERE l.space=?1 AND l.key=?2", Rows.Log, (long)space, key);

    /// <inheritdoc/>
    public LogRow? FindLog(long log) => sql.One(Rows.SelectLog + " WHERE l.id=?1", Rows.Log, log);

    /// <inheritdoc/>
    public LogRow AddLog(int space, string key, IReadOnlyList<Address> includes)
    {
        long id = nextLog++;
        sql.Run("INSERT INTO log (id, space, key) VALUES (?1, ?2, ?3)", id, (long)space, key);
        foreach (var address in includes)
        {
            sql.Run("INSERT INTO audience_address (space, address, log) VALUES (?1, ?2, ?3)", (long)space, address.ToString(), id);
        }
        return new LogRow(id, key, 0, 0, 0, default, 0);
    }

    /// <inheritdoc/>
    public void SaveLog(LogRow log) =>
        sql.Run("UPDATE log SET key=?2, head=?3, head_position=?4, trimmed=?5, lost_ordinal=?6, lost_position=?7, lost_time=?8 WHERE id=?1",
            log.Id, log.Key, log.Head, log.HeadPosition, log.Trimmed, log.Lost.Ordinal, log.Lost.Position, log.Lost.Time.Micros);

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
    public IReadOnlyList<long> OrdinalsOfType(long log, long typeHash, long after, long upTo) =>
        sql.All("SELECT ordinal FROM log_item WHERE log=?1 AND ordinal>?2 AND ordinal<=?3 AND type=?4 ORDER BY ordinal", r => r.GetInt64(0),
        log, after, upTo, typeHash);

    /// <inheritdoc/>
    public long PositionAt(int space, StoredTime time)
    {
        // Times rise with positions, so the tree of entries is the index: halve it.
        long lo = sql.Number("SELECT floor FROM space WHERE id=?1", (long)space) ?? 0;
        long hi = Math.Max(lo,
            Rows.PositionOf(
            sql.Number("SELECT key FROM entry WHERE key>=?1 AND key<=?2 ORDER BY key DESC LIMIT 1", Rows.First(space), Rows.Last(space))
            ?? 0));
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
        sql.Run("INSERT INTO entry (key, time, kind, id, body, addressing, placements, type, subject, receipts, take_for) VALUES (?1, " +
        "?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11)",
            Rows.Key(space, entry.Position.Value), entry.Time.Micros, (long)entry.Kind, entry.Id == default ? null : Rows.IdBytes(entry.Id),
            entry.Body, entry.Addressing.Lines, Rows.PlacementBytes(entry.Placements),
            entry.Traits.Type, entry.Traits.Subject, (long)entry.Traits.Receipts,
            entry.Traits.TakeFor is { } takeFor ? (long)takeFor.TotalMicroseconds : null);

    /// <inheritdoc/>
    public void AppendItem(long log, long ordinal, long position, long? subjectHash, long typeHash) =>
        sql.Run("INSERT INTO log_item (log, ordinal, position, subject, type) VALUES (?1, ?2, ?3, ?4, ?5)", log, ordinal, position,
        subjectHash, typeHash);

    /// <inheritdoc/>
    public void AppendChange(long log, JournalRow change) =>
        sql.Run("INSERT INTO change (log, position, ordinal, kind, turn) VALUES (?1, ?2, ?3, ?4, ?5)", log, change.Position, change.Ordinal,
        (long)change.Kind, (long)change.Turn);

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
    public PersonRow? FindPerson(int space, string user) =>
        sql.One(Rows.SelectPerson + " WHERE space=?1 AND name=?2", Rows.Person, (long)space, user);

    /// <inheritdoc/>
    public PersonRow? FindPerson(long person) => sql.One(Rows.SelectPerson + " WHERE id=?1", Rows.Person, person);

    /// <inheritdoc/>
    public PersonRow AddPerson(int space, string user, StoredTime? seen)
    {
        long id = nextPerson++;
        sql.Run("INSERT INTO person (id, space, name, seen) VALUES (?1, ?2, ?3, ?4)", id, (long)space, user, seen?.Micros);
        return new PersonRow(id, user, seen, 0, 0, 0, [], [], null, null);
    }

    /// <inheritdoc/>
    public void SavePerson(PersonRow p) =>
        sql.Run("UPDATE person SET name=?2, seen=?3, rev=?4, roles_issued_at=?5, token_roles=?6, directory_roles=?7, display_name=?8, " +
        "locale=?9, roles_changed_at=?10, valid_from=?11, blocked=?12, claims=?13, rules_seen=?14, ahead=?15, claims_at=?16 WHERE id=?1",
            p.Id, p.User, p.Seen?.Micros, p.Rev, p.RolesIssuedAt, string.Join('\n', p.TokenRoles), string.Join('\n', p.DirectoryRoles),
            p.DisplayName, p.Locale, p.RolesChangedAt, p.ValidFrom, p.Blocked ? 1L : 0L, p.Claims, p.RulesSeen, string.Join(',', p.Ahead),
            p.ClaimsAt);

    /// <inheritdoc/>
    public IReadOnlyList<Membership> Memberships(long person) =>
        sql.All("SELECT address, after, until, gained FROM membership WHERE person=?1 ORDER BY opened",
        r => new Membership(r.GetString(0), r.GetInt64(1), Rows.Number(r, 2), r.GetInt64(3)), person);

    /// <inheritdoc/>
    public void OpenMembership(int space, long person, Membership membership)
    {
        sql.Run("INSERT INTO membership (person, space, address, after, gained) VALUES (?1, ?2, ?3, ?4, ?5)", person, (long)space,
            membership.Address, membership.After, membership.Gained);
        sql.Run("INSERT INTO address (space, address, members) VALUES (?1, ?2, 1) ON CONFLICT (space, address) DO UPDATE SET " +
            "members=address.members+1", (long)space, membership.Address);
    }

    /// <inheritdoc/>
    public void CloseMembership(int space, long person, string address, long until)
    {
        sql.Run("UPDATE membership SET until=?3 WHERE person=?1 AND address=?2 AND until IS NULL", person, address, until);
        sql.Run("UPDATE address SET members=members-1 WHERE space=?1 AND address=?2", (long)space, address);
    }

    /// <inheritdoc/>
    public long MembersOf(int space, string address) =>
        sql.Number("SELECT members FROM address WHERE space=?1 AND address=?2", (long)space, address) ?? -1;

    /// <inheritdoc/>
    public IReadOnlyList<long> Holders(int space, string address, long after, int limit) =>
        sql.All("SELECT person FROM membership WHERE space=?1 AND address=?2 AND until IS NULL AND person>?3 ORDER BY person LIMIT ?4",
        r => r.GetInt64(0), (long)space, address, after, (long)limit);

    /// <inheritdoc/>
    public IReadOnlyList<UserLogRow> UserLogs(long person) => sql.All(Rows.SelectUserLogs, Rows.UserLog, person);

    /// <inheritdoc/>
    public void SaveUserLog(long person, UserLogRow r) =>
        sql.Run("INSERT INTO user_log (person, log, read_line, received_line, handled_line, muted_line, gone, journal_seen, " +
        "muted_through, parts, segments) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11) "
            + "ON CONFLICT (person, log) DO UPDATE SET read_line=?3, received_line=?4, handled_line=?5, muted_line=?6, gone=?7, " +
            "journal_seen=?8, muted_through=?9, parts=?10, segments=?11",
            person, r.Log, r.ReadLine, r.ReceivedLine, r.HandledLine, r.MutedLine, r.Gone, r.JournalSeen, r.MutedThrough, (long)r.Parts,
            r.Segments is null ? null : Rows.SegmentBytes(r.Segments));

    /// <inheritdoc/>
    public void ForgetUserLogs(long person) => sql.Run("UPDATE user_log SET gone=NULL, segments=NULL WHERE person=?1", person);

    /// <inheritdoc/>
    public OrdinalSet Skips(long person, long log) => Rows.Skips(sql, person, log);

    /// <inheritdoc/>
    public IBlockSource Blocks(long person, long log, MarkKind kind) => new StoredBlocks(sql, person, log, kind);

    /// <inheritdoc/>
    public void SaveBlock(long person, long log, MarkKind kind, int block, byte[]? bits, int count)
    {
        if (bits is null)
        {
            sql.Run("DELETE FROM mark_block WHERE person=?1 AND log=?2 AND kind=?3 AND block=?4", person, log, (long)kind, (long)block);
        }
        else
        {
            sql.Run("INSERT INTO mark_block (person, log, kind, block, bits, count) VALUES (?1, ?2, ?3, ?4, ?5, ?6) ON CONFLICT " +
                "(person, log, kind, block) DO UPDATE SET bits=?5, count=?6", person, log, (long)kind, (long)block, bits, (long)count);
        }
    }

    /// <inheritdoc/>
    public void AddRun(long person, long log, MarkKind kind, OrdinalRun run, StoredTime time, string device) =>
        sql.Run("INSERT INTO mark_run (log, kind, person, from_ord, to_ord, time, device, is_long) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, " +
        "?8) ON CONFLICT (log, kind, person, from_ord) DO UPDATE SET to_ord=?5, time=?6, device=?7, is_long=?8",
            log, (long)kind, person, run.From, run.To, time.Micros, device, run.Count > LongRun ? 1L : 0L);

    /// <inheritdoc/>
    public void ClearRun(long person, long log, MarkKind kind, OrdinalRun run)
    {
        var touched =
            sql.All("SELECT from_ord, to_ord, time, device FROM mark_run WHERE log=?1 AND kind=?2 AND person=?3 AND from_ord<=?5 AND " +
            "to_ord>=?4",
            r => (From: r.GetInt64(0), To: r.GetInt64(1), Time: new StoredTime(r.GetInt64(2)), Device: r.GetString(3)), log, (long)kind,
            person, run.From, run.To);
        foreach (var old in touched)
        {
            sql.Run("DELETE FROM mark_run WHERE log=?1 AND kind=?2 AND person=?3 AND from_ord=?4", log, (long)kind, person, old.From);
            if (old.From < run.From) AddRun(person, log, kind, new OrdinalRun(old.From, run.From - 1), old.Time, old.Device);
            if (old.To > run.To) AddRun(person, log, kind, new OrdinalRun(run.To + 1, old.To), old.Time, old.Device);
        }
    }

    /// <inheritdoc/>
    public void AddTally(long log, MarkKind kind, long ordinal, long difference)
    {
        sql.Run("INSERT INTO tally (log, kind, ordinal, difference) VALUES (?1, ?2, ?3, ?4) ON CONFLICT (log, kind, ordinal) DO UPDATE " +
            "SET difference=tally.difference+?4", log, (long)kind, ordinal, difference);
        sql.Run("INSERT INTO tally_block (log, kind, block, difference) VALUES (?1, ?2, ?3, ?4) ON CONFLICT (log, kind, block) DO " +
            "UPDATE SET difference=tally_block.difference+?4", log, (long)kind, (ordinal - 1) / BlockSize, difference);
    }

    /// <inheritdoc/>
    public long Tally(long log, MarkKind kind, long ordinal) => TallyOf(sql, log, kind, ordinal);

    internal static long TallyOf(ISql sql, long log, MarkKind kind, long ordinal)
    {
        long block = (ordinal - 1) / BlockSize;
        return (sql.Number("SELECT CAST(sum(difference) AS BIGINT) FROM tally_block WHERE log=?1 AND kind=?2 AND block<?3", log, (long)kind,
            block) ?? 0)
            + (sql.Number("SELECT CAST(sum(difference) AS BIGINT) FROM tally WHERE log=?1 AND kind=?2 AND ordinal>?3 AND ordinal<=?4", log,
            (long)kind, block * BlockSize, ordinal) ?? 0);
    }

    /// <inheritdoc/>
    public IdempotencyRow? FindAnswer(int space, string key, StoredTime notBefore) =>
        sql.One("SELECT body_hash, id, position FROM answer WHERE space=?1 AND key=?2 AND time>=?3",
            r => new IdempotencyRow(Rows.Bytes(r, 0), Rows.Id(Rows.Bytes(r, 1)), new Position(r.GetInt64(2))), (long)space, key,
            notBefore.Micros);

    /// <inheritdoc/>
    public void AddAnswer(int space, string key, IdempotencyRow answer, StoredTime time)
    {
        // Those that count no more go now and then, with those that come.
        if (answersAdded++ % 256 == 0)
        {
            sql.Run("DELETE FROM answer WHERE time<?1", time.Micros - (long)Idempotency.KeptFor.TotalMicroseconds);
        }
        sql.Run("INSERT INTO answer (space, key, body_hash, id, position, time) VALUES (?1, ?2, ?3, ?4, ?5, ?6) ON CONFLICT (space, " +
            "key) DO UPDATE SET body_hash=?3, id=?4, position=?5, time=?6",
            (long)space, key, answer.BodyHash, Rows.IdBytes(answer.Id), answer.Position.Value, time.Micros);
    }

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
    public void SetAside(int space, SetAsideRow row) =>
        sql.Run("INSERT INTO set_aside (space, time, kind, position, why, detail) VALUES (?1, ?2, ?3, ?4, ?5, ?6)", (long)space,
        row.Time.Micros, (long)row.Kind, row.Position, row.Why, row.Detail);

    /// <inheritdoc/>
    public long? FindSlot(int space, string key) => sql.Number("SELECT position FROM slot WHERE space=?1 AND key=?2", (long)space, key);

    /// <inheritdoc/>
    public void SaveSlot(int space, string key, long position) =>
        sql.Run("INSERT INTO slot (space, key, position) VALUES (?1, ?2, ?3) ON CONFLICT (space, key) DO UPDATE SET position=?3",
        (long)space, key, position);

    const string SelectTake = "SELECT position, person, log, ordinal, until FROM take";

    static TakeRow Take(DbDataReader r) =>
        new(r.GetInt64(0), r.GetInt64(1), new Placement(r.GetInt64(2), r.GetInt64(3)),
        Rows.Number(r, 4) is { } until ? new StoredTime(until) : null);

    /// <inheritdoc/>
    public TakeRow? FindTake(int space, long position) =>
        sql.One(SelectTake + " WHERE space=?1 AND position=?2", Take, (long)space, position);

    /// <inheritdoc/>
    public IReadOnlyList<TakeRow> TakesOf(long person) => sql.All(SelectTake + " WHERE person=?1 ORDER BY position", Take, person);

    /// <inheritdoc/>
    public IReadOnlyList<long> TakenOf(long log) => sql.All("SELECT ordinal FROM take WHERE log=?1", r => r.GetInt64(0), log);

    /// <inheritdoc/>
    public void AddTake(int space, TakeRow take) =>
        sql.Run("INSERT INTO take (space, position, person, log, ordinal, until) VALUES (?1, ?2, ?3, ?4, ?5, ?6)", (long)space,
        take.Position, take.Person, take.Place.Log, take.Place.Ordinal, take.Until?.Micros);

    /// <inheritdoc/>
    public void RemoveTake(int space, long position) => sql.Run("DELETE FROM take WHERE space=?1 AND position=?2", (long)space, position);

    /// <inheritdoc/>
    public IReadOnlyList<MuteRow> MutesOf(long person) =>
        sql.All("SELECT is_type, text, after, until, since FROM mute WHERE person=?1 ORDER BY since",
        r => new MuteRow(r.GetInt64(0) != 0, r.GetString(1), r.GetInt64(2), Rows.Number(r, 3), new StoredTime(r.GetInt64(4))), person);

    /// <inheritdoc/>
    public void AddMute(long person, MuteRow mute) =>
        sql.Run("INSERT INTO mute (person, is_type, text, after, until, since) VALUES (?1, ?2, ?3, ?4, ?5, ?6)", person,
        mute.IsType ? 1L : 0L, mute.Text, mute.After, mute.Until, mute.Since.Micros);

    /// <inheritdoc/>
    public void EndMute(long person, bool isType, string text, long until) =>
        sql.Run("UPDATE mute SET until=?4 WHERE person=?1 AND is_type=?2 AND text=?3 AND until IS NULL", person, isType ? 1L : 0L,
        text, until);

    /// <inheritdoc/>
    public RoleRow? FindRole(int space, string role) =>
        sql.One("SELECT role, display_name, newcomers, presence FROM role WHERE space=?1 AND role=?2",
        r => new RoleRow(r.GetString(0), Rows.Text(r, 1), Rows.Number(r, 2) is { } micros ? TimeSpan.FromMicroseconds(micros) : null,
        r.GetInt64(3) != 0), (long)space, role);

    /// <inheritdoc/>
    public void SaveRole(int space, RoleRow role) =>
        sql.Run("INSERT INTO role (space, role, display_name, newcomers, presence) VALUES (?1, ?2, ?3, ?4, ?5) ON CONFLICT (space, " +
        "role) DO UPDATE SET display_name=?3, newcomers=?4, presence=?5",
            (long)space, role.Role, role.DisplayName, role.Newcomers is { } lookBack ? (long)lookBack.TotalMicroseconds : null,
            role.Presence ? 1L : 0L);

    /// <inheritdoc/>
    public void SaveDeadline(int space, DeadlineRow d) =>
        sql.Run("INSERT INTO deadline (space, position, number, by_state, within, for_each, at, state, ended, otherwise_addressing, " +
        "otherwise_body, otherwise_type, otherwise_subject) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13) "
            + "ON CONFLICT (space, position, number) DO UPDATE SET state=?8, ended=?9",
            (long)space, d.Position, (long)d.Number, (long)d.Terms.By, (long)d.Terms.Within.TotalMicroseconds, d.Terms.Each ? 1L : 0L,
            d.At.Micros, (long)d.State, d.Ended?.Micros,
            d.Terms.Otherwise?.Addressing.Lines, d.Terms.Otherwise?.Body, d.Terms.Otherwise?.Traits.Type, d.Terms.Otherwise?.Traits.Subject);

    /// <inheritdoc/>
    public IReadOnlyList<DeadlineRow> Deadlines(int space, long position) => DeadlinesOf(sql, space, position);

    static Draft DraftOf(Addressing addressing, byte[] body, NotificationTraits traits) =>
        new(Rows.Addresses(addressing.To), Rows.Addresses(addressing.Except), body, traits);

    internal static IReadOnlyList<DeadlineRow> DeadlinesOf(ISql sql, int space, long position) =>
        sql.All("SELECT number, by_state, within, for_each, at, state, ended, otherwise_addressing, otherwise_body, otherwise_type, " +
        "otherwise_subject FROM deadline WHERE space=?1 AND position=?2 ORDER BY number", r =>
        {
            var otherwise = r.IsDBNull(7)
                ? null
                : DraftOf(new Addressing(r.GetString(7)), Rows.Bytes(r, 8),
                new NotificationTraits(r.GetString(9), Rows.Text(r, 10), ReceiptLevel.Totals, null));
            return new DeadlineRow(position, (int)r.GetInt64(0),
                new DeadlineTerms((ReceiptState)r.GetInt64(1), TimeSpan.FromMicroseconds(r.GetInt64(2)), r.GetInt64(3) != 0, otherwise),
                new StoredTime(r.GetInt64(4)), (DeadlineState)r.GetInt64(5), Rows.Number(r, 6) is { } ended ? new StoredTime(ended) : null);
        }, (long)space, position);

    /// <inheritdoc/>
    public long LastReceipt(int space) =>
        Rows.PositionOf(
        sql.Number("SELECT key FROM receipt WHERE key>=?1 AND key<=?2 ORDER BY key DESC LIMIT 1", Rows.First(space), Rows.Last(space))
        ?? 0);

    /// <inheritdoc/>
    public void AppendReceipt(int space, ReceiptRow r) =>
        sql.Run("INSERT INTO receipt (key, time, state, log, from_ord, to_ord, person, device, position, detail) VALUES (?1, ?2, ?3, " +
        "?4, ?5, ?6, ?7, ?8, ?9, ?10)",
            Rows.Key(space, r.Number), r.Time.Micros, (long)r.State, r.Log, r.Run.From, r.Run.To, r.Person, r.Device, r.Position, r.Detail);

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
        sql.Run("DELETE FROM set_aside WHERE space=?1 AND position<=?2", (long)space, upTo);
        // Roles' grants of the past decide for those who were away.
        sql.Run("DELETE FROM topic_grant WHERE space=?1 AND role='' AND ended<=?2", (long)space, upTo);
        sql.Run("DELETE FROM membership WHERE space=?1 AND until<=?2", (long)space, upTo);
    }

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

    /// <inheritdoc/>
    public void Dispose() => sql.Dispose();
}
