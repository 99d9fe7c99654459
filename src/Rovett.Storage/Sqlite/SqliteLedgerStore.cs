using System.Buffers.Binary;
using System.Security.Cryptography;
using Microsoft.Data.Sqlite;
using Rovett.Core.Addresses;
using Rovett.Core.AddressLogs;
using Rovett.Core.Ledger;
using Rovett.Core.Marks;

namespace Rovett.Storage.Sqlite;

/// <summary>The history in one SQLite file, as the ledger writes it: one connection, one thread, prepared statements.</summary>
public sealed class SqliteLedgerStore : ILedgerStore, IDisposable
{
    internal const int SpaceShift = 44;

    readonly SqliteConnection connection;
    readonly Dictionary<string, Statement> statements = [];
    int answersAdded;

    /// <summary>Opens (and on the first start makes) the history at <paramref name="path"/>.</summary>
    /// <exception cref="StoreException">It can't be used; the message names the mend.</exception>
    public SqliteLedgerStore(string path)
    {
        SqliteFiles.Migrate(path, "Migrations");
        connection = SqliteFiles.Open(path, readOnly: false);
        if (On("SELECT count(*) FROM store").Number() == 0)
        {
            Begin();
            On("INSERT INTO store (epoch) VALUES (?1)").Run(Epoch.New().ToString());
            AddSpace("main", RandomNumberGenerator.GetBytes(32));
            Commit();
        }
        Epoch = new Epoch(Guid.ParseExact(On("SELECT epoch FROM store").One(r => r.GetString(0))!, "N"));
    }

    /// <inheritdoc/>
    public Epoch Epoch { get; }

    Statement On(string sql)
    {
        if (!statements.TryGetValue(sql, out var statement)) statements[sql] = statement = new Statement(connection, sql);
        return statement;
    }

    /// <inheritdoc/>
    public void Begin() => On("BEGIN IMMEDIATE").Run();

    /// <inheritdoc/>
    public void Commit() => On("COMMIT").Run();

    /// <inheritdoc/>
    public void Rollback()
    {
        try
        {
            On("ROLLBACK").Run();
        }
        catch (SqliteException)
        {
            // No transaction was open, or SQLite has rolled it back itself: both are what is wanted.
        }
    }

    /// <inheritdoc/>
    public SpaceRow? FindSpace(string name) => On("SELECT id, key FROM space WHERE name=?1").One(r => Tuple.Create((int)r.GetInt64(0), (byte[])r[1]), name) is { } found
        ? WithHead(found.Item1, name, found.Item2) : null;

    SpaceRow WithHead(int id, string name, byte[] key)
    {
        long from = (long)id << SpaceShift;
        var newest = On("SELECT key, time FROM entry WHERE key>=?1 AND key<?2 ORDER BY key DESC LIMIT 1").One(r => new long[] { r.GetInt64(0), r.GetInt64(1) }, from, from + (1L << SpaceShift));
        return new SpaceRow(id, name, key, newest is null ? 0 : newest[0] - from, new StoredTime(newest?[1] ?? 0));
    }

    /// <inheritdoc/>
    public SpaceRow AddSpace(string name, byte[] key)
    {
        On("INSERT INTO space (name, key) VALUES (?1, ?2)").Run(name, key);
        return FindSpace(name)!;
    }

    /// <inheritdoc/>
    public LogRow? FindLog(int space, string key) => On("SELECT id, key FROM log WHERE space=?1 AND key=?2").One(ReadLog, space, key) is { } row ? WithHead(row) : null;

    /// <inheritdoc/>
    public LogRow AddLog(int space, string key, IReadOnlyList<Address> includes)
    {
        On("INSERT INTO log (space, key) VALUES (?1, ?2)").Run(space, key);
        var row = FindLog(space, key)!;
        foreach (var address in includes) On("INSERT INTO audience_address (space, address, log) VALUES (?1, ?2, ?3)").Run(space, address.ToString(), row.Id);
        return row;
    }

    /// <inheritdoc/>
    public IReadOnlyList<LogRow> AudiencesOf(int space, Address address) =>
        [.. On("SELECT l.id, l.key FROM audience_address a JOIN log l ON l.id=a.log WHERE a.space=?1 AND a.address=?2").All(ReadLog, space, address.ToString()).Select(WithHead)];

    static LogRow ReadLog(SqliteDataReader r) => new(r.GetInt64(0), r.GetString(1), 0, 0);

    LogRow WithHead(LogRow row)
    {
        var newest = On("SELECT ordinal, position FROM log_item WHERE log=?1 ORDER BY ordinal DESC LIMIT 1").One(r => new long[] { r.GetInt64(0), r.GetInt64(1) }, row.Id);
        return newest is null ? row : row with { Head = newest[0], HeadPosition = newest[1] };
    }

    /// <inheritdoc/>
    public long OrdinalAt(long log, long position) =>
        On("SELECT ordinal FROM log_item WHERE log=?1 AND position<=?2 ORDER BY position DESC LIMIT 1").Number(log, position) ?? 0;

    /// <inheritdoc/>
    public IReadOnlyList<long> OrdinalsAbout(long log, long subjectHash) =>
        On("SELECT ordinal FROM log_item WHERE log=?1 AND subject=?2 ORDER BY ordinal").All(r => r.GetInt64(0), log, subjectHash);

    /// <inheritdoc/>
    public long PositionAt(int space, StoredTime time)
    {
        // Times rise with positions, so the tree of entries is the index: halve it.
        long from = (long)space << SpaceShift;
        long lo = 0, hi = WithHead(space, "", []).Head;
        while (lo < hi)
        {
            long middle = lo + (hi - lo + 1) / 2;
            if (On("SELECT time FROM entry WHERE key=?1").Number(from + middle) <= time.Micros) lo = middle;
            else hi = middle - 1;
        }
        return lo;
    }

    /// <inheritdoc/>
    public void AppendEntry(int space, EntryRow entry) =>
        On("INSERT INTO entry (key, time, kind, id, body, addressing, placements) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)").Run(
            ((long)space << SpaceShift) + entry.Position.Value, entry.Time.Micros, (int)entry.Kind,
            entry.Kind == EntryKind.Notification ? Rows.IdBytes(entry.Id) : null, entry.Body, entry.Addressing, Rows.PlacementBytes(entry.Placements));

    /// <inheritdoc/>
    public void AppendItem(long log, long ordinal, long position, long? subjectHash) =>
        On("INSERT INTO log_item (log, ordinal, position, subject) VALUES (?1, ?2, ?3, ?4)").Run(log, ordinal, position, subjectHash);

    /// <inheritdoc/>
    public void AddSkip(long log, long person, long ordinal) =>
        On("INSERT OR IGNORE INTO skip (person, log, ordinal) VALUES (?1, ?2, ?3)").Run(person, log, ordinal);

    /// <inheritdoc/>
    public EntryRow? FindEntry(int space, NotificationId id)
    {
        long from = (long)space << SpaceShift;
        return On(Rows.SelectEntry + " WHERE id=?1 AND key>=?2 AND key<?3").One(Rows.ReadEntry, Rows.IdBytes(id), from, from + (1L << SpaceShift));
    }

    /// <inheritdoc/>
    public PersonRow? FindPerson(int space, string user) =>
        On("SELECT id, user, seen, rev, roles_issued_at FROM person WHERE space=?1 AND user=?2").One(
            r => new PersonRow(r.GetInt64(0), r.GetString(1), r.IsDBNull(2) ? null : new StoredTime(r.GetInt64(2)), r.GetInt64(3), r.GetInt64(4)), space, user);

    /// <inheritdoc/>
    public PersonRow AddPerson(int space, string user, StoredTime? seen)
    {
        On("INSERT INTO person (space, user, seen) VALUES (?1, ?2, ?3)").Run(space, user, seen?.Micros);
        return FindPerson(space, user)!;
    }

    /// <inheritdoc/>
    public void SavePerson(long person, StoredTime? seen, long rev, long rolesIssuedAt) =>
        On("UPDATE person SET seen=?2, rev=?3, roles_issued_at=?4 WHERE id=?1").Run(person, seen?.Micros, rev, rolesIssuedAt);

    /// <inheritdoc/>
    public IReadOnlyList<Membership> Memberships(long person) =>
        On("SELECT address, after, until FROM membership WHERE person=?1 ORDER BY opened").All(
            r => new Membership(r.GetString(0), r.GetInt64(1), r.IsDBNull(2) ? null : r.GetInt64(2)), person);

    /// <inheritdoc/>
    public void OpenMembership(int space, long person, Membership membership)
    {
        On("INSERT INTO membership (person, address, after) VALUES (?1, ?2, ?3)").Run(person, membership.Address, membership.After);
        On("INSERT INTO address (space, address, members) VALUES (?1, ?2, 1) ON CONFLICT DO UPDATE SET members=members+1").Run(space, membership.Address);
    }

    /// <inheritdoc/>
    public void CloseMembership(int space, long person, string address, long until)
    {
        On("UPDATE membership SET until=?3 WHERE person=?1 AND address=?2 AND until IS NULL").Run(person, address, until);
        On("UPDATE address SET members=members-1 WHERE space=?1 AND address=?2").Run(space, address);
    }

    /// <inheritdoc/>
    public long MembersOf(int space, string address) => On("SELECT members FROM address WHERE space=?1 AND address=?2").Number(space, address) ?? -1;

    /// <inheritdoc/>
    public OrdinalSet Skips(long person, long log)
    {
        var set = new OrdinalSet();
        foreach (long ordinal in On("SELECT ordinal FROM skip WHERE person=?1 AND log=?2").All(r => r.GetInt64(0), person, log)) set.Add(new OrdinalRun(ordinal, ordinal));
        return set;
    }

    /// <inheritdoc/>
    public OrdinalSet LoadMarks(long person, long log, MarkKind kind)
    {
        var set = new OrdinalSet();
        set.LoadLine(On("SELECT line FROM mark_line WHERE person=?1 AND log=?2 AND kind=?3").Number(person, log, (int)kind) ?? 0);
        foreach (var (block, bits) in On("SELECT block, bits FROM mark_block WHERE person=?1 AND log=?2 AND kind=?3").All(r => ((int)r.GetInt64(0), (byte[])r[1]), person, log, (int)kind)) set.LoadBlock(block, bits);
        return set;
    }

    /// <inheritdoc/>
    public void SaveMarks(long person, long log, MarkKind kind, OrdinalSet marks)
    {
        if (marks.LineChanged) On("INSERT INTO mark_line (person, log, kind, line) VALUES (?1, ?2, ?3, ?4) ON CONFLICT DO UPDATE SET line=?4").Run(person, log, (int)kind, marks.Line);
        foreach (int block in marks.ChangedBlocks ?? [])
        {
            if (marks.StoredBlock(block) is { } bits) On("INSERT INTO mark_block (person, log, kind, block, bits) VALUES (?1, ?2, ?3, ?4, ?5) ON CONFLICT DO UPDATE SET bits=?5").Run(person, log, (int)kind, block, bits);
            else On("DELETE FROM mark_block WHERE person=?1 AND log=?2 AND kind=?3 AND block=?4").Run(person, log, (int)kind, block);
        }
        marks.ClearChanges();
    }

    /// <inheritdoc/>
    public void AddRun(long person, long log, MarkKind kind, OrdinalRun run, StoredTime time, string device) =>
        On("INSERT OR REPLACE INTO mark_run (log, kind, person, from_ord, to_ord, time, device) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)").Run(log, (int)kind, person, run.From, run.To, time.Micros, device);

    /// <inheritdoc/>
    public void ClearRun(long person, long log, MarkKind kind, OrdinalRun run)
    {
        var touched = On("SELECT from_ord, to_ord, time, device FROM mark_run WHERE log=?1 AND kind=?2 AND person=?3 AND from_ord<=?5 AND to_ord>=?4").All(
            r => (From: r.GetInt64(0), To: r.GetInt64(1), Time: new StoredTime(r.GetInt64(2)), Device: r.GetString(3)), log, (int)kind, person, run.From, run.To);
        foreach (var old in touched)
        {
            On("DELETE FROM mark_run WHERE log=?1 AND kind=?2 AND person=?3 AND from_ord=?4").Run(log, (int)kind, person, old.From);
            if (old.From < run.From) AddRun(person, log, kind, new OrdinalRun(old.From, run.From - 1), old.Time, old.Device);
            if (old.To > run.To) AddRun(person, log, kind, new OrdinalRun(run.To + 1, old.To), old.Time, old.Device);
        }
    }

    /// <inheritdoc/>
    public IdempotencyRow? FindAnswer(int space, string key, StoredTime notBefore) =>
        On("SELECT body_hash, id, position FROM answer WHERE space=?1 AND key=?2 AND time>=?3").One(
            r => new IdempotencyRow((byte[])r[0], Rows.Id((byte[])r[1]), new Position(r.GetInt64(2))), space, key, notBefore.Micros);

    /// <inheritdoc/>
    public void AddAnswer(int space, string key, IdempotencyRow answer, StoredTime time)
    {
        // Those that count no more go a few at a time, with those that come.
        if (answersAdded++ % 256 == 0) On("DELETE FROM answer WHERE time<?1").Run(time.Micros - (long)Idempotency.KeptFor.TotalMicroseconds);
        On("INSERT OR REPLACE INTO answer (space, key, body_hash, id, position, time) VALUES (?1, ?2, ?3, ?4, ?5, ?6)").Run(space, key, answer.BodyHash, Rows.IdBytes(answer.Id), answer.Position.Value, time.Micros);
    }

    /// <inheritdoc/>
    public void Dispose()
    {
        foreach (var statement in statements.Values) statement.Dispose();
        connection.Dispose();
    }
}

/// <summary>How rows become values.</summary>
static class Rows
{
    public const string SelectEntry = "SELECT key, time, kind, id, body, addressing, placements FROM entry";

    public static EntryRow ReadEntry(SqliteDataReader r) => new(
        new Position(r.GetInt64(0) & ((1L << SqliteLedgerStore.SpaceShift) - 1)), new StoredTime(r.GetInt64(1)), (EntryKind)r.GetInt64(2),
        r.IsDBNull(3) ? default : Id((byte[])r[3]), (byte[])r[4], r.GetString(5), Placements((byte[])r[6]));

    public static byte[] IdBytes(NotificationId id)
    {
        var bytes = new byte[16];
        BinaryPrimitives.WriteUInt128BigEndian(bytes, id.Value);
        return bytes;
    }

    public static NotificationId Id(byte[] bytes) => new(BinaryPrimitives.ReadUInt128BigEndian(bytes));

    public static byte[] PlacementBytes(Placement[] placements)
    {
        var bytes = new byte[placements.Length * 16];
        for (int i = 0; i < placements.Length; i++)
        {
            BinaryPrimitives.WriteInt64LittleEndian(bytes.AsSpan(i * 16), placements[i].Log);
            BinaryPrimitives.WriteInt64LittleEndian(bytes.AsSpan(i * 16 + 8), placements[i].Ordinal);
        }
        return bytes;
    }

    static Placement[] Placements(byte[] bytes)
    {
        var placements = new Placement[bytes.Length / 16];
        for (int i = 0; i < placements.Length; i++)
            placements[i] = new Placement(BinaryPrimitives.ReadInt64LittleEndian(bytes.AsSpan(i * 16)), BinaryPrimitives.ReadInt64LittleEndian(bytes.AsSpan(i * 16 + 8)));
        return placements;
    }
}
