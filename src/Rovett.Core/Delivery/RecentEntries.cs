using Rovett.Core.Wire;

namespace Rovett.Core.Delivery;

/// <summary>The newest entries of a space as finished bytes, bounded in memory together with those of all spaces. Safe
/// to read from any thread.</summary>
public sealed class RecentEntries
{
    readonly RecentBySpace all;
    readonly Lock gate = new();
    readonly Dictionary<long, OutgoingEntry> byPosition = [];
    readonly Queue<OutgoingEntry> order = new();
    long bytes;

    internal RecentEntries(RecentBySpace all) => this.all = all;

    /// <summary>How much is kept.</summary>
    internal long Bytes => Volatile.Read(ref bytes);

    /// <summary>Keeps one, and lets old ones go.</summary>
    public void Add(OutgoingEntry entry)
    {
        lock (gate)
        {
            if (!byPosition.TryAdd(entry.Position.Value, entry)) return;
            order.Enqueue(entry);
            bytes += entry.Weight;
        }
        all.Added(this, entry.Weight);
    }

    /// <summary>Lets the oldest go.</summary>
    /// <returns>How much that was; 0 when only the newest is left, which stays.</returns>
    internal long DropOldest()
    {
        lock (gate)
        {
            if (order.Count <= 1) return 0;
            var oldest = order.Dequeue();
            byPosition.Remove(oldest.Position.Value);
            bytes -= oldest.Weight;
            return oldest.Weight;
        }
    }

    /// <summary>The one at a position, or null when it is not kept.</summary>
    public OutgoingEntry? Find(long position)
    {
        lock (gate) return byPosition.GetValueOrDefault(position);
    }

    /// <summary>Forgets everything: a commit failed, and what was kept of it never happened.</summary>
    public void Clear()
    {
        long freed;
        lock (gate)
        {
            byPosition.Clear();
            order.Clear();
            freed = bytes;
            bytes = 0;
        }
        all.Freed(freed);
    }
}
