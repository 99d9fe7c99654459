namespace Rovett.Service.Limits;

/// <summary>One token bucket: so many a second, and as many at once. Safe to call from any thread.</summary>
public sealed class Bucket(int perSecond, TimeProvider clock)
{
    readonly Lock gate = new();
    double left = perSecond;
    long at = clock.GetTimestamp();

    /// <summary>How many a second.</summary>
    public int PerSecond => perSecond;

    /// <summary>Takes one.</summary>
    /// <param name="remaining">How many are left.</param>
    /// <returns>Zero when there was one, otherwise how long until there is; nothing is taken then.</returns>
    public TimeSpan Take(out int remaining)
    {
        lock (gate)
        {
            Fill();
            remaining = (int)left;
            if (left < 1) return TimeSpan.FromSeconds((1 - left) / perSecond);
            left--;
            remaining = (int)left;
            return TimeSpan.Zero;
        }
    }

    /// <summary>Takes several at once, more than there are if need be: what follows then waits for all of them.</summary>
    /// <returns>Zero when there was at least one, otherwise how long until there is; nothing is taken then.</returns>
    public TimeSpan TakeAll(int count)
    {
        lock (gate)
        {
            Fill();
            if (left < 1) return TimeSpan.FromSeconds((1 - left) / perSecond);
            left -= count;
            return TimeSpan.Zero;
        }
    }

    /// <summary>Gives one back that was taken.</summary>
    public void GiveBack()
    {
        lock (gate) left = Math.Min(perSecond, left + 1);
    }

    /// <summary>How many were taken that have not come back yet.</summary>
    public int Used
    {
        get
        {
            lock (gate)
            {
                Fill();
                return Math.Min(perSecond, perSecond - (int)left);
            }
        }
    }

    void Fill()
    {
        long now = clock.GetTimestamp();
        left = Math.Min(perSecond, left + (clock.GetElapsedTime(at, now).TotalSeconds * perSecond));
        at = now;
    }
}
