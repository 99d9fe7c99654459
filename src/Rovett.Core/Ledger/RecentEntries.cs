using System.Collections.Concurrent;
using Rovett.Core.Delivery;

namespace Rovett.Core.Ledger;

/// <summary>The newest entries of a space as finished bytes, bounded in memory together with those of all spaces. Safe to read from any thread.</summary>
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

/// <summary>The newest entries of every space. A space that has more than its share gives up its oldest first.</summary>
/// <param name="maxBytes">The bound for all spaces together, in bytes.</param>
public sealed class RecentBySpace(long maxBytes = 64 << 20)
{
    readonly ConcurrentDictionary<string, RecentEntries> spaces = new();
    long bytes;
    int count; // of the spaces; the dictionary would stop everybody to count

    /// <summary>How much is kept in all.</summary>
    public long Bytes => Interlocked.Read(ref bytes);

    /// <summary>Those of one space.</summary>
    public RecentEntries Of(string space)
    {
        if (spaces.TryGetValue(space, out var known)) return known;
        var made = new RecentEntries(this);
        if (!spaces.TryAdd(space, made)) return spaces.TryGetValue(space, out known) ? known : made; // or it was removed just now
        Interlocked.Increment(ref count);
        return made;
    }

    /// <summary>A space is no more.</summary>
    public void Remove(string space)
    {
        if (!spaces.TryRemove(space, out var gone)) return;
        Interlocked.Decrement(ref count);
        gone.Clear();
    }

    internal void Added(RecentEntries to, long weight)
    {
        if (Interlocked.Add(ref bytes, weight) <= maxBytes) return;
        while (Interlocked.Read(ref bytes) > maxBytes)
        {
            // Whoever has more than a share is found without a look at all.
            var from = to.Bytes * Math.Max(1, Volatile.Read(ref count)) >= maxBytes ? to : spaces.Values.MaxBy(s => s.Bytes)!;
            long freed = from.DropOldest();
            if (freed == 0 && (from == to || (freed = to.DropOldest()) == 0)) return;
            Freed(freed);
        }
    }

    internal void Freed(long freed) => Interlocked.Add(ref bytes, -freed);
}
