using System.Buffers.Binary;
using System.Data.Common;
using System.Globalization;
using Rovett.Core.Addresses;
using Rovett.Core.Marks;
using Rovett.Core.Notifications;
using Rovett.Core.Store;

namespace Rovett.Storage.Sql;

/// <summary>How rows become values, and values what is stored.</summary>
static class Rows
{
    /// <summary>Positions are the low bits of an entry's key, the space's number the high ones.</summary>
    public const int SpaceShift = 44;

    public const string SelectEntry =
        "SELECT key, time, kind, id, body, addressing, placements, type, subject, receipts, take_for FROM entry";
    public const string SelectText = "SELECT key, kind, time, id, body FROM entry";
    public const string SelectLog = "SELECT l.id, l.key, l.head, l.head_position, l.trimmed, l.lost_ordinal, l.lost_position, l.lost_time, "
        + "(SELECT ordinal FROM log_item WHERE log=l.id ORDER BY ordinal DESC LIMIT 1), (SELECT position FROM log_item WHERE log=l.id " +
        "ORDER BY ordinal DESC LIMIT 1), "
        + "(SELECT position FROM change WHERE log=l.id ORDER BY position DESC LIMIT 1) FROM log l";
    public const string SelectPerson = "SELECT id, name, seen, rev, roles_issued_at, roles_changed_at, token_roles, directory_roles, " +
        "display_name, locale, valid_from, blocked, claims, rules_seen, ahead, claims_at, quiet, choices_rev FROM person";
    public const string SelectUserLogsOf = "SELECT log, read_line, received_line, handled_line, muted_line, gone, journal_seen, " +
        "muted_through, parts, segments, person FROM user_log";
    public const string SelectUserLogs = SelectUserLogsOf + " WHERE person=?1";
    public const string SelectChange = "SELECT position, ordinal, kind, turn FROM change";
    public const string SelectReceipt = "SELECT key, time, state, log, from_ord, to_ord, person, device, position, detail FROM receipt";

    public static long First(int space) => (long)space << SpaceShift;
    public static long Last(int space) => First(space + 1) - 1;
    public static long Key(int space, long position) => First(space) + position;
    public static long PositionOf(long key) => key & ((1L << SpaceShift) - 1);

    public static EntryRow Entry(DbDataReader r) => new(
        new Position(PositionOf(r.GetInt64(0))), new StoredTime(r.GetInt64(1)), (EntryKind)r.GetInt64(2),
        r.IsDBNull(3) ? default : Id(r, 3), Bytes(r, 4), new Addressing(r.GetString(5)), Placements(Bytes(r, 6)),
        new NotificationTraits(r.GetString(7), Text(r, 8), (ReceiptLevel)r.GetInt64(9),
        r.IsDBNull(10) ? null : TimeSpan.FromMicroseconds(r.GetInt64(10))));

    /// <summary>For entries about a notification, which have its id.</summary>
    public static (long Position, EntryText Text) Text(DbDataReader r) => (PositionOf(r.GetInt64(0)),
        new EntryText((EntryKind)r.GetInt64(1), new StoredTime(r.GetInt64(2)), Id(r, 3), Bytes(r, 4)));

    public static LogRow Log(DbDataReader r)
    {
        long head = r.IsDBNull(8) ? 0 : r.GetInt64(8), headPosition = r.IsDBNull(9) ? 0 : r.GetInt64(9);
        if (r.GetInt64(2) > head) (head, headPosition) = (r.GetInt64(2), r.GetInt64(3));
        return new LogRow(r.GetInt64(0), r.GetString(1), head, headPosition, r.GetInt64(4),
            new LostNotification(r.GetInt64(5), r.GetInt64(6), new StoredTime(r.GetInt64(7))), r.IsDBNull(10) ? 0 : r.GetInt64(10));
    }

    public static PersonRow Person(DbDataReader r) =>
        new(r.GetInt64(0), r.GetString(1), r.IsDBNull(2) ? null : new StoredTime(r.GetInt64(2)), r.GetInt64(3), r.GetInt64(4),
        r.GetInt64(5),
        Lines(r.GetString(6)), Lines(r.GetString(7)), Text(r, 8), Text(r, 9))
        {
            ValidFrom = r.GetInt64(10),
            Blocked = r.GetInt64(11) != 0,
            Claims = r.GetString(12),
            RulesSeen = Number(r, 13),
            Ahead = [.. r.GetString(14).Split(',', StringSplitOptions.RemoveEmptyEntries)
                .Select(n => long.Parse(n, CultureInfo.InvariantCulture))],
            ClaimsAt = r.GetInt64(15),
            Quiet = r.GetString(16),
            ChoicesRev = r.GetInt64(17)
        };

    public static UserLogRow UserLog(DbDataReader r) =>
        new(r.GetInt64(0), r.GetInt64(1), r.GetInt64(2), r.GetInt64(3), r.GetInt64(4), Number(r, 5), r.GetInt64(6), r.GetInt64(7),
        (UserLogParts)r.GetInt64(8), r.IsDBNull(9) ? null : Segments(Bytes(r, 9)));

    public static JournalRow Change(DbDataReader r) => new(r.GetInt64(0), r.GetInt64(1), (EntryKind)r.GetInt64(2), (int)r.GetInt64(3));

    public static ReceiptRow Receipt(DbDataReader r) =>
        new(PositionOf(r.GetInt64(0)), new StoredTime(r.GetInt64(1)), (ReceiptState)r.GetInt64(2), r.GetInt64(3),
        new OrdinalRun(r.GetInt64(4), r.GetInt64(5)), r.GetInt64(6), r.GetString(7), r.GetInt64(8), r.GetString(9));

    public static byte[] Bytes(DbDataReader r, int column) => r.GetFieldValue<byte[]>(column);
    public static string? Text(DbDataReader r, int column) => r.IsDBNull(column) ? null : r.GetString(column);
    public static long? Number(DbDataReader r, int column) => r.IsDBNull(column) ? null : r.GetInt64(column);

    public static IReadOnlyList<string> Lines(string text) => text.Length == 0 ? [] : text.Split('\n');

    public static byte[] IdBytes(NotificationId id)
    {
        var bytes = new byte[16];
        BinaryPrimitives.WriteUInt128BigEndian(bytes, id.Value);
        return bytes;
    }

    [ThreadStatic] static byte[]? idBytes;

    /// <summary>Reads an id from a column without allocating.</summary>
    static NotificationId Id(DbDataReader r, int column)
    {
        var bytes = idBytes ??= new byte[16];
        r.GetBytes(column, 0, bytes, 0, bytes.Length);
        return Id(bytes);
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

    public static Placement[] Placements(byte[] bytes)
    {
        var placements = new Placement[bytes.Length / 16];
        for (int i = 0; i < placements.Length; i++)
            placements[i] = new Placement(BinaryPrimitives.ReadInt64LittleEndian(bytes.AsSpan(i * 16)),
                BinaryPrimitives.ReadInt64LittleEndian(bytes.AsSpan(i * 16 + 8)));
        return placements;
    }

    public static byte[] SegmentBytes(Segment[] segments)
    {
        var bytes = new byte[segments.Length * 24];
        for (int i = 0; i < segments.Length; i++)
        {
            BinaryPrimitives.WriteInt64LittleEndian(bytes.AsSpan(i * 24), segments[i].Lo);
            BinaryPrimitives.WriteInt64LittleEndian(bytes.AsSpan(i * 24 + 8), segments[i].Hi);
            BinaryPrimitives.WriteInt64LittleEndian(bytes.AsSpan(i * 24 + 16), segments[i].AddressIndex);
        }
        return bytes;
    }

    static Segment[] Segments(byte[] bytes)
    {
        var segments = new Segment[bytes.Length / 24];
        for (int i = 0; i < segments.Length; i++)
            segments[i] = new Segment(BinaryPrimitives.ReadInt64LittleEndian(bytes.AsSpan(i * 24)),
                BinaryPrimitives.ReadInt64LittleEndian(bytes.AsSpan(i * 24 + 8)),
                (int)BinaryPrimitives.ReadInt64LittleEndian(bytes.AsSpan(i * 24 + 16)));
        return segments;
    }

    /// <summary>Addresses as they are stored.</summary>
    public static List<Address> Addresses(IEnumerable<string> stored) => [.. stored.Select(Address.OfStored)];

    /// <summary>The ordinals of a log that a person is left out of by name.</summary>
    public static OrdinalSet Skips(ISql sql, long person, long log)
    {
        var set = new OrdinalSet();
        foreach (long ordinal in sql.All("SELECT ordinal FROM skip WHERE person=?1 AND log=?2 ORDER BY ordinal", r => r.GetInt64(0),
            person, log))
        {
            set.Add(new OrdinalRun(ordinal, ordinal));
        }
        return set;
    }
}

/// <summary>Stored blocks of marks.</summary>
sealed class StoredBlocks(ISql sql, long person, long log, MarkKind kind) : IBlockSource
{
    /// <summary>What was read ahead; null: nothing.</summary>
    public IReadOnlyList<(int Block, int Count, byte[]? Bits)>? Known { get; init; }

    public IReadOnlyList<(int Block, int Count)> List() => Known is not null ? [.. Known.Select(k => (k.Block, k.Count))] :
        sql.All("SELECT block, count FROM mark_block WHERE person=?1 AND log=?2 AND kind=?3 ORDER BY block",
        r => ((int)r.GetInt64(0), (int)r.GetInt64(1)), person, log, (int)kind);

    public byte[] Load(int block) => Known?.FirstOrDefault(k => k.Block == block).Bits ??
        sql.One("SELECT bits FROM mark_block WHERE person=?1 AND log=?2 AND kind=?3 AND block=?4", r => Rows.Bytes(r, 0), person, log,
        (int)kind, block) ?? new byte[OrdinalSet.BlockSize / 8];
}
