namespace Rovett.Service.Limits;

/// <summary>One bucket for each of many. A bucket that is full again is as good as none, so those are let go. Safe to
/// call from any thread.</summary>
/// <param name="perSecond">How many a second each may take.</param>
/// <param name="most">How many are remembered. Should so many be at their limit, who comes new has none.</param>
/// <param name="clock">The clock.</param>
public sealed class Buckets<TKey>(int perSecond, int most, TimeProvider clock) where TKey : notnull
{
    readonly Dictionary<TKey, Bucket> buckets = [];
    readonly Lock gate = new();
    int sweepAt = 64;

    /// <summary>Takes one.</summary>
    /// <returns>Whether there was one.</returns>
    public bool Take(TKey key)
    {
        lock (gate)
        {
            if (!buckets.TryGetValue(key, out var bucket))
            {
                if (buckets.Count >= Math.Min(sweepAt, most))
                {
                    foreach (var full in buckets.Where(b => b.Value.Used == 0).Select(b => b.Key).ToList()) buckets.Remove(full);
                    sweepAt = Math.Max(64, 2 * buckets.Count);
                    if (buckets.Count >= most) return false;
                }
                buckets[key] = bucket = new Bucket(perSecond, clock);
            }
            return bucket.Take(out _) == TimeSpan.Zero;
        }
    }
}
