using Rovett.Core.AddressLogs;

namespace Rovett.Simulator;

/// <summary>The simulated clock. It may be set back, as real ones are; elapsed time never goes back.</summary>
sealed class SimClock : TimeProvider
{
    TimeSpan elapsed, offset;
    static readonly DateTimeOffset Start = new(2026, 11, 23, 6, 0, 0, TimeSpan.Zero);

    public TimeSpan Elapsed => elapsed;
    public long Micros => StoredTime.From(GetUtcNow()).Micros;
    public override DateTimeOffset GetUtcNow() => Start + elapsed + offset;
    public void AdvanceTo(TimeSpan time) => elapsed = time > elapsed ? time : elapsed;
    public void SetBack(TimeSpan by) => offset -= by;
}
