using System.Collections.Concurrent;

namespace Rovett.Core.Delivery;

/// <summary>The newest entries of every space. A space above its share loses its oldest entries first.</summary>
/// <param name="maxBytes">The bound for all spaces together, in bytes.</param>
public sealed class RecentBySpace(long maxBytes = 64 << 20)
{
    readonly ConcurrentDictionary<string, RecentEntries> spaces = new();
    long bytes;
    int numbers;
    int count; // of the spaces; the dictionary would stop everybody to count

    /// <summary>What was read for sessions that are behind.</summary>
    internal SharedPages Pages { get; } = new();

    /// <summary>How much is kept in all.</summary>
    public long Bytes => Interlocked.Read(ref bytes);

    /// <summary>Those of one space.</summary>
    public RecentEntries Of(string space)
    {
        if (spaces.TryGetValue(space, out var known)) return known;
        var made = new RecentEntries(this, Interlocked.Increment(ref numbers));
        if (!spaces.TryAdd(space, made)) return spaces.TryGetValue(space, out known) ? known : made; // or it was removed just now
        Interlocked.Increment(ref count);
        return made;
    }

    /// <summary>A space was removed.</summary>
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
            // Finds a space above its share without looking at all of them.
            var from = to.Bytes * Math.Max(1, Volatile.Read(ref count)) >= maxBytes ? to : spaces.Values.MaxBy(s => s.Bytes)!;
            long freed = from.DropOldest();
            if (freed == 0 && (from == to || (freed = to.DropOldest()) == 0)) return;
            Freed(freed);
        }
    }

    internal void Freed(long freed) => Interlocked.Add(ref bytes, -freed);
}
