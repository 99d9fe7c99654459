namespace Rovett.Core.Delivery;

/// <summary>The position up to which a user's devices, or one device, have been written to. Updated by the sessions' writers.</summary>
public sealed class DispatchMark
{
    long through;

    /// <summary>Everything up to this position was written.</summary>
    public long Through => Volatile.Read(ref through);

    /// <summary>Moves the mark forward; it never goes back.</summary>
    /// <returns>The old position. Entries after it, up to <paramref name="position"/>, were written to this device first.</returns>
    public long Advance(long position)
    {
        long seen = Volatile.Read(ref through);
        while (position > seen)
        {
            long found = Interlocked.CompareExchange(ref through, position, seen);
            if (found == seen) return seen;
            seen = found;
        }
        return seen;
    }
}

/// <summary>How far each session of each device of a user was written to, the newest few of each: by it a device that
/// comes back with an older cursor is told which messages are repeats. Owned by the ledger; the marks by their writers.</summary>
public sealed class DeviceMarks
{
    const int MaxDevices = 16, MaxEarlier = 8;
    (string Device, DispatchMark[] Marks)[] devices = []; // the one that began last at the end

    /// <summary>A new session of a device begins.</summary>
    /// <returns>Its mark last, and before it those of the device's earlier sessions.</returns>
    public DispatchMark[] Begin(string device)
    {
        int at = devices.Length - 1;
        while (at >= 0 && devices[at].Device != device) at--;
        DispatchMark[] all = at < 0 ? [new DispatchMark()]
            : [.. devices[at].Marks.Where(static m => m.Through > 0).TakeLast(MaxEarlier), new DispatchMark()];
        if (at < 0 && devices.Length < MaxDevices) Array.Resize(ref devices, devices.Length + 1);
        else
        {
            int leaves = Math.Max(at, 0); // it comes to the end, or the oldest makes way
            Array.Copy(devices, leaves + 1, devices, leaves, devices.Length - 1 - leaves);
        }
        devices[^1] = (device, all);
        return all;
    }
}
