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

    /// <summary>Adds an entry and drops old ones.</summary>
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

    /// <summary>Drops the oldest entry.</summary>
    /// <returns>The bytes freed; 0 when only the newest is left, which is never dropped.</returns>
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

    /// <summary>Drops everything: a commit failed, and its entries are among those kept.</summary>
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
