using System.Threading.Tasks.Sources;

namespace Rovett.Service.Ledgers;

/// <summary>Wakes one waiter; signals given before it waits are not lost, and many count as one. Allocates nothing, and
/// never makes a signaller wait.</summary>
public sealed class AsyncSignal : IValueTaskSource<bool>
{
    const int Idle = 0, Signalled = 1, Waiting = 2;

    ManualResetValueTaskSourceCore<bool> source = new() { RunContinuationsAsynchronously = true };
    int state;

    /// <summary>Wakes the waiter, now or when it comes.</summary>
    /// <returns>True when one was waiting, which now is about to run.</returns>
    public bool Set()
    {
        if (Interlocked.Exchange(ref state, Signalled) != Waiting) return false;
        Interlocked.Exchange(ref state, Idle); // reset before the waiter runs; it looks for everything that came until then
        source.SetResult(true);
        return true;
    }

    /// <summary>Completes at once when signalled since the last time, otherwise at the next signal. One waiter at a time.</summary>
    /// <returns>True when it had to wait.</returns>
    public ValueTask<bool> Wait()
    {
        source.Reset();
        if (Interlocked.CompareExchange(ref state, Waiting, Idle) == Idle) return new ValueTask<bool>(this, source.Version);
        Interlocked.Exchange(ref state, Idle);
        return default;
    }

    bool IValueTaskSource<bool>.GetResult(short token) => source.GetResult(token);
    ValueTaskSourceStatus IValueTaskSource<bool>.GetStatus(short token) => source.GetStatus(token);
    void IValueTaskSource<bool>.OnCompleted(Action<object?> continuation, object? state, short token,
        ValueTaskSourceOnCompletedFlags flags) => source.OnCompleted(continuation, state, token, flags);
}
