using System.Collections.Concurrent;
using Rovett.Core.Delivery;
using Rovett.Core.Ledger;

namespace Rovett.Service.Operations;

/// <summary>Gathers acknowledgements and writes them behind, at most 200 ms late: losing one costs a repeat, never a
/// notification.</summary>
public sealed class AckBuffer : IDisposable
{
    static readonly TimeSpan Interval = TimeSpan.FromMilliseconds(100);

    readonly ConcurrentDictionary<(string Space, string User, string Device, bool Handled), List<AckedRun>> waiting = new();
    readonly LedgerPump ledger;
    readonly ITimer timer;

    /// <summary>Starts the timer.</summary>
    public AckBuffer(LedgerPump ledger, TimeProvider clock)
    {
        this.ledger = ledger;
        timer = clock.CreateTimer(_ => Flush(), null, Interval, Interval);
    }

    /// <summary>Takes what a device of a user acknowledged.</summary>
    public void Add(string space, string user, string device, bool handled, List<AckedRun> acked)
    {
        if (acked.Count == 0) return;
        for (; ; )
        {
            var list = waiting.GetOrAdd((space, user, device, handled), static _ => []);
            lock (list)
            {
                // A list that Flush has taken out is written already; take the next one.
                if (!waiting.TryGetValue((space, user, device, handled), out var current) || current != list) continue;
                list.AddRange(acked);
                return;
            }
        }
    }

    /// <summary>Writes what waits.</summary>
    public void Flush()
    {
        foreach (var (key, list) in waiting)
        {
            List<AckedRun> acked;
            lock (list)
            {
                waiting.TryRemove(key, out _);
                acked = [.. list];
            }
            try
            {
                _ = ledger.Ask(new ReceivedCommand(key.Space, key.User, acked, key.Handled, key.Device)).ContinueWith(static t => _ = t.Exception, TaskContinuationOptions.OnlyOnFaulted);
            }
            catch (Core.ProblemException)
            {
                // Overloaded: dropped, and the device is sent them again when it comes back.
            }
        }
    }

    /// <summary>Writes what waits, and stops.</summary>
    public void Dispose()
    {
        timer.Dispose();
        Flush();
    }
}
