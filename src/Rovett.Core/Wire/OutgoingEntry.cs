using Rovett.Core.Notifications;

namespace Rovett.Core.Wire;

/// <summary>A stored entry on its way out — a notification, or what became of one — shared by everybody it reaches.</summary>
public sealed class OutgoingEntry(EntryKind kind, Position position, StoredTime time, NotificationId id, string cursor, byte[] body)
{
    const int Lanes = 8, LaneSpacing = 16;

    EntryWire[] wires = [];
    int[]? dispatched;
    byte[]? sent;

    /// <summary>What it says.</summary>
    public EntryKind Kind { get; } = kind;
    /// <summary>Its entry.</summary>
    public Position Position { get; } = position;
    /// <summary>When it was stored.</summary>
    public StoredTime Time { get; } = time;
    /// <summary>The id of the notification.</summary>
    public NotificationId Id { get; } = id;
    /// <summary>The sealed position.</summary>
    public string Cursor { get; } = cursor;
    /// <summary>The members that are the same for everybody.</summary>
    public byte[] Body { get; } = body;
    /// <summary>The part of <see cref="Body"/> that is sent to devices.</summary>
    public byte[] Sent => sent ??= CarriedBody.Of(Body);
    /// <summary>How many users it was written to since this process started.</summary>
    public int Dispatched => Volatile.Read(ref dispatched)?.Sum() ?? 0;
    /// <summary>What its finished bytes take in memory, in bytes.</summary>
    public int Weight => 400 + Body.Length * 4;
    /// <summary>The trace that it is shown in; null: none.</summary>
    public EntryTrace? Trace { get; init; }
    /// <summary>False for an entry read for a session that is behind, of which nobody asks how many users it was written to.</summary>
    public bool IsKept { get; init; } = true;
    /// <summary>True for a notification, which is acknowledged; false for what became of one.</summary>
    public bool IsNotification => Kind == EntryKind.Notification;

    /// <summary>The <c>kind</c> of its message.</summary>
    public string KindName => NameOf(Kind);

    /// <summary>The <c>kind</c> of the message of an entry.</summary>
    public static string NameOf(EntryKind kind) => kind switch
    {
        EntryKind.Notification => "notification",
        EntryKind.Withdrawn => "withdrawn",
        EntryKind.Replaced => "replaced",
        EntryKind.Expired => "expired",
        EntryKind.Taken => "taken",
        EntryKind.Released => "released",
        _ => throw new ArgumentOutOfRangeException(nameof(kind), kind, "Nobody is sent such an entry."),
    };

    /// <summary>Counts one more user.</summary>
    /// <param name="lane">Writers at work at the same time give different numbers, so as not to wait for each other's cache line.</param>
    public void CountDispatched(int lane)
    {
        if (!IsKept) return;
        var cells = Volatile.Read(ref dispatched) ?? Interlocked.CompareExchange(ref dispatched, new int[Lanes * LaneSpacing], null)
            ?? dispatched;
        Interlocked.Increment(ref cells[(int)((uint)lane % Lanes) * LaneSpacing]);
    }

    /// <summary>The finished bytes for those whom <paramref name="address"/> reached.</summary>
    /// <param name="address">The address.</param>
    /// <param name="attempt">1, and more each time it is written to the same device again.</param>
    /// <param name="read">It comes read, because the user is looking at what it is about.</param>
    /// <param name="counted">False for a session that has only subscribed: it is in no inbox and no total.</param>
    public EntryWire WireFor(string address, int attempt = 1, bool read = false, bool counted = true)
    {
        foreach (var wire in Volatile.Read(ref wires))
        {
            if (wire.Is(address, attempt, read, counted)) return wire;
        }
        var made = new EntryWire(this, address, attempt, read, counted);
        for (var known = wires; attempt == 1 || known.Length < 32;)
        {
            var before = Interlocked.CompareExchange(ref wires, [.. known, made], known);
            if (before == known) break;
            known = before;
            if (Array.Find(known, w => w.Is(address, attempt, read, counted)) is { } other) return other;
        }
        return made;
    }
}
