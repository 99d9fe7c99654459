namespace Rovett.Core.Wire;

/// <summary>Notifications of one log that stand one after the other, at positions one after the other, as they are
/// offered to everybody together; or one entry of any kind. Shared by all whom it is offered to: what each of them
/// keeps of it has the same size however many it holds.</summary>
public sealed class EntryRun
{
    /// <summary>Makes a run.</summary>
    /// <param name="wires">Their bytes, in the order of positions.</param>
    /// <param name="log">The log.</param>
    /// <param name="ordinal">The ordinal of the first, or of the notification that the entry speaks of.</param>
    public EntryRun(EntryWire[] wires, long log, long ordinal)
    {
        Wires = wires;
        Place = new RunPlace(log, ordinal, wires[0].Entry.Position.Value, Array.ConvertAll(wires, w => w.Entry.Id));
        AreNotifications = wires[0].Entry.IsNotification;
        Counts = AreNotifications && wires[0].IsCounted;
    }

    /// <summary>One entry.</summary>
    public static EntryRun Of(EntryWire wire, long log, long ordinal) => new([wire], log, ordinal);

    /// <summary>The bytes of each.</summary>
    public EntryWire[] Wires { get; }

    /// <summary>Where they stand.</summary>
    public RunPlace Place { get; }

    /// <summary>True when they are notifications, which are acknowledged.</summary>
    public bool AreNotifications { get; }

    /// <summary>True when each raises the unread total.</summary>
    public bool Counts { get; }

    /// <summary>How many.</summary>
    public int Count => Wires.Length;
}

/// <summary>Where the entries of a run stand, without their bytes: what is kept until they are acknowledged.</summary>
public sealed record RunPlace(long Log, long Ordinal, long Position, NotificationId[] Ids);
