using Rovett.Core.Delivery;

namespace Rovett.Core.Ledger;

/// <summary>The newest entries of a space as finished bytes, bounded in memory. Safe to read from any thread.</summary>
public sealed class RecentEntries(long maxBytes)
{
    readonly Lock gate = new();
    readonly Dictionary<long, OutgoingEntry> byPosition = [];
    readonly Queue<OutgoingEntry> order = new();
    long bytes;

    /// <summary>Keeps one, and lets the oldest go.</summary>
    public void Add(OutgoingEntry entry)
    {
        lock (gate)
        {
            if (!byPosition.TryAdd(entry.Position.Value, entry)) return;
            order.Enqueue(entry);
            bytes += entry.Weight;
            while (bytes > maxBytes && order.Count > 1)
            {
                var oldest = order.Dequeue();
                byPosition.Remove(oldest.Position.Value);
                bytes -= oldest.Weight;
            }
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
        lock (gate)
        {
            byPosition.Clear();
            order.Clear();
            bytes = 0;
        }
    }
}

/// <summary>The newest entries of every space.</summary>
/// <param name="maxBytes">The bound for each space, in bytes.</param>
public sealed class RecentBySpace(long maxBytes = 64 << 20)
{
    readonly System.Collections.Concurrent.ConcurrentDictionary<string, RecentEntries> spaces = new();

    /// <summary>Those of one space.</summary>
    public RecentEntries Of(string space) => spaces.GetOrAdd(space, static (_, bytes) => new RecentEntries(bytes), maxBytes);
}
