namespace Rovett.Testing;

/// <summary>The real clock, which a test can set forward or back. Timers go on as they do.</summary>
public sealed class TestClock : TimeProvider
{
    long shift;

    /// <summary>Sets it forward, or back.</summary>
    public void Advance(TimeSpan by) => Interlocked.Add(ref shift, by.Ticks);

    /// <inheritdoc/>
    public override DateTimeOffset GetUtcNow() => base.GetUtcNow().AddTicks(Interlocked.Read(ref shift));
}
