namespace Rovett.Service.Diagnostics;

/// <summary>Pauses between attempts, each twice as long as the one before, with jitter.</summary>
/// <param name="first">The first.</param>
/// <param name="longest">The longest.</param>
public sealed class GrowingPause(TimeSpan first, TimeSpan longest)
{
    TimeSpan? next;

    /// <summary>The next one.</summary>
    /// <param name="asked">What the other side asked for; it counts up to the longest.</param>
    public TimeSpan Next(TimeSpan? asked = null)
    {
        var turn = next ?? first;
        var pause = asked < longest ? asked.Value : turn;
        next = turn * 2 < longest ? turn * 2 : longest;
        return pause * (0.75 + Random.Shared.NextDouble() / 2);
    }

    /// <summary>An attempt went well: begins with the first again.</summary>
    public void Reset() => next = null;
}
