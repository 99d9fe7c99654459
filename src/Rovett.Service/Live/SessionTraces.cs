using System.Diagnostics;
using Rovett.Core.Delivery;
using Rovett.Core.Wire;
using Rovett.Service.Telemetry;

namespace Rovett.Service.Live;

/// <summary>What a session was sent within traces, until its device has acknowledged it. Thread-safe.</summary>
/// <param name="space">The space.</param>
/// <param name="transport">The transport.</param>
/// <param name="clock">The clock.</param>
sealed class SessionTraces(string space, string transport, TimeProvider clock)
{
    const int Most = 100;
    readonly Lock gate = new();
    readonly List<(ActivityContext At, long Log, long Ordinal, DateTimeOffset Sent)> waiting = [];

    /// <summary>Its connection took notifications.</summary>
    public void Dispatched(IReadOnlyList<TracedDispatch> traced)
    {
        var now = clock.GetUtcNow();
        foreach (var one in traced)
        {
            if (Traces.Dispatched(one, space, transport, now) is not { } at) continue;
            lock (gate)
            {
                if (waiting.Count < Most) waiting.Add((at, one.Log, one.Ordinal, now));
            }
        }
    }

    /// <summary>Its device acknowledged some.</summary>
    public void Acknowledged(IReadOnlyList<AckedRun> acked)
    {
        lock (gate)
        {
            waiting.RemoveAll(one =>
            {
                bool isReceived = acked.Any(a => a.Log == one.Log && one.Ordinal >= a.Run.From && one.Ordinal <= a.Run.To);
                if (isReceived) Traces.Received(one.At, space, one.Sent);
                return isReceived;
            });
        }
    }
}
