namespace Rovett.Service.Diagnostics;

/// <summary>Says when recurring work is due again.</summary>
/// <param name="interval">The shortest time between two turns.</param>
/// <param name="clock">The clock.</param>
public sealed class Every(TimeSpan interval, TimeProvider clock)
{
    long? last;

    /// <summary>Whether it is due; if so, it counts as done. It is due the first time.</summary>
    public bool IsDue()
    {
        long now = clock.GetTimestamp();
        if (last is { } before && clock.GetElapsedTime(before, now) < interval) return false;
        last = now;
        return true;
    }
}
