using System.Runtime.CompilerServices;
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
    int cleared, reader;
    long sharedUntil;

    internal RecentEntries(RecentBySpace all, int number) => (this.all, Number) = (all, number);

    /// <summary>Tells the spaces of this process apart.</summary>
    internal int Number { get; }

    /// <summary>How often everything was dropped.</summary>
    internal int Cleared => Volatile.Read(ref cleared);

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

    /// <summary>As <see cref="Find"/>, for a session that is behind: also what was read for another session a moment ago.</summary>
    public OutgoingEntry? FindForPage(long position) => Find(position) ?? all.Pages.Find(this, position);

    /// <summary>Notes that a session reads a page.</summary>
    /// <param name="session">The session.</param>
    /// <returns>True when other sessions read pages too, so that sharing what is read is worth it.</returns>
    internal bool OthersReadToo(object session)
    {
        long now = Environment.TickCount64;
        int me = RuntimeHelpers.GetHashCode(session), before = Interlocked.Exchange(ref reader, me);
        if (before != me && before != 0) Volatile.Write(ref sharedUntil, now + SharedPages.Moment);
        return now < Volatile.Read(ref sharedUntil);
    }

    /// <summary>Keeps an entry that was read for a session that is behind, for a moment.</summary>
    /// <param name="entry">The entry.</param>
    /// <param name="asOf">What <see cref="Cleared"/> was before it was read.</param>
    internal void Share(OutgoingEntry entry, int asOf) => all.Pages.Add(this, entry, asOf);

    /// <summary>Drops everything: a commit failed, and its entries are among those kept; or what they say was erased.</summary>
    public void Clear()
    {
        Interlocked.Increment(ref cleared);
        all.Pages.Remove(this);
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
