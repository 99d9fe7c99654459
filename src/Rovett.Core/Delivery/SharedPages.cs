using Rovett.Core.Wire;

namespace Rovett.Core.Delivery;

/// <summary>Entries read for a session that is behind, kept for a moment: others who come back at the same time missed the same ones,
/// which are then read and framed once. The number of slots is fixed, however many spaces there are; a newer entry takes an older one's
/// place. Safe to use from any thread.</summary>
sealed class SharedPages
{
    const int Slots = 2048, MostBody = 2048;

    /// <summary>How long an entry is shared, in milliseconds: no longer than those who come back together need it.</summary>
    public const int Moment = 2000;

    sealed record Slot(RecentEntries Space, OutgoingEntry Entry, int Cleared, long Read);

    readonly Slot?[] slots = new Slot?[Slots];

    static int At(RecentEntries space, long position) => (int)((uint)(space.Number * 7919 + position) % Slots);

    /// <summary>A space's entry at a position, or null.</summary>
    public OutgoingEntry? Find(RecentEntries space, long position) =>
        Volatile.Read(ref slots[At(space, position)]) is { } slot && slot.Space == space && slot.Entry.Position.Value == position
            && slot.Cleared == space.Cleared && Environment.TickCount64 - slot.Read < Moment ? slot.Entry : null;

    /// <summary>Shares an entry that was read.</summary>
    /// <param name="space">Its space.</param>
    /// <param name="entry">The entry.</param>
    /// <param name="cleared">What <see cref="RecentEntries.Cleared"/> was before it was read.</param>
    public void Add(RecentEntries space, OutgoingEntry entry, int cleared)
    {
        if (entry.Body.Length > MostBody) return;
        Volatile.Write(ref slots[At(space, entry.Position.Value)], new Slot(space, entry, cleared, Environment.TickCount64));
    }

    /// <summary>Drops a space's entries.</summary>
    public void Remove(RecentEntries space)
    {
        foreach (ref var slot in slots.AsSpan())
        {
            if (Volatile.Read(ref slot)?.Space == space) Volatile.Write(ref slot, null);
        }
    }
}
