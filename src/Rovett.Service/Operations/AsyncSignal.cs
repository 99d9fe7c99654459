using System.Threading.Tasks.Sources;

namespace Rovett.Service.Operations;

/// <summary>Wakes one waiter; signals given before it waits are not lost, and many count as one. Allocates nothing.</summary>
public sealed class AsyncSignal : IValueTaskSource
{
    readonly Lock gate = new();
    ManualResetValueTaskSourceCore<bool> source = new() { RunContinuationsAsynchronously = true };
    bool signalled, waiting;

    /// <summary>Wakes the waiter, now or when it comes.</summary>
    public void Set()
    {
        lock (gate)
        {
            if (!waiting)
            {
                signalled = true;
                return;
            }
            waiting = false;
        }
        source.SetResult(true);
    }

    /// <summary>Completes at once when signalled since the last time, otherwise at the next signal. One waiter at a time.</summary>
    public ValueTask Wait()
    {
        lock (gate)
        {
            if (signalled)
            {
                signalled = false;
                return default;
            }
            source.Reset();
            waiting = true;
            return new ValueTask(this, source.Version);
        }
    }

    void IValueTaskSource.GetResult(short token) => source.GetResult(token);
    ValueTaskSourceStatus IValueTaskSource.GetStatus(short token) => source.GetStatus(token);
    void IValueTaskSource.OnCompleted(Action<object?> continuation, object? state, short token, ValueTaskSourceOnCompletedFlags flags) => source.OnCompleted(continuation, state, token, flags);
}
