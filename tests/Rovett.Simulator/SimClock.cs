using System.Globalization;
using Rovett.Core.Ledgers;

namespace Rovett.Simulator;

/// <summary>The simulated machine's clock. It may be set, as real ones are; elapsed time never goes back.</summary>
sealed class SimClock : TimeProvider, IElapsedTime
{
    TimeSpan elapsed, offset;
    int boots;
    static readonly DateTimeOffset Start = new(2026, 11, 23, 6, 0, 0, TimeSpan.Zero);

    public TimeSpan Elapsed => elapsed;
    public string Boot => boots.ToString(CultureInfo.InvariantCulture);

    /// <summary>How far the clock is from the true time.</summary>
    public TimeSpan Offset => offset;

    /// <summary>The true time, which nobody but the simulator knows.</summary>
    public long True => StoredTime.From(Start + elapsed).Micros;
    public override DateTimeOffset GetUtcNow() => Start + elapsed + offset;
    public void AdvanceTo(TimeSpan time) => elapsed = time > elapsed ? time : elapsed;
    public void Set(TimeSpan by) => offset += by;
    public void SetRight() => offset = default;
    public void StartAnew() => boots++;
}
