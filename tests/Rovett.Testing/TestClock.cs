using Rovett.Core.Ledgers;

namespace Rovett.Testing;

/// <summary>The real clock, whose time a test can let pass, and which it can set as somebody sets a clock. Timers go on
/// as they do.</summary>
public sealed class TestClock : TimeProvider, IElapsedTime
{
    readonly long began = System.GetTimestamp();
    long passed, set;

    /// <summary>Lets time pass.</summary>
    public void Advance(TimeSpan by) => Interlocked.Add(ref passed, by.Ticks);

    /// <summary>Sets it forward, or back: no time passes.</summary>
    public void Set(TimeSpan by) => Interlocked.Add(ref set, by.Ticks);

    /// <summary>Another one: the machine was started anew.</summary>
    public string Boot { get; set; } = Guid.NewGuid().ToString();

    /// <inheritdoc/>
    public TimeSpan Elapsed => System.GetElapsedTime(began) + TimeSpan.FromTicks(Interlocked.Read(ref passed));

    /// <inheritdoc/>
    public override DateTimeOffset GetUtcNow() => base.GetUtcNow().AddTicks(Interlocked.Read(ref passed) + Interlocked.Read(ref set));
}
