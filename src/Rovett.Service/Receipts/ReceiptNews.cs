using System.Collections.Concurrent;

namespace Rovett.Service.Receipts;

/// <summary>Wakes those who wait for new receipts of a space.</summary>
public sealed class ReceiptNews
{
    readonly ConcurrentDictionary<string, TaskCompletionSource> waiting = new();

    /// <summary>Completes at the next <see cref="Tell"/>. Ask before looking, so that none is missed.</summary>
    public Task Next(string space) =>
        waiting.GetOrAdd(space, static _ => new TaskCompletionSource(TaskCreationOptions.RunContinuationsAsynchronously)).Task;

    /// <summary>There are new receipts.</summary>
    public void Tell(string space)
    {
        if (waiting.TryRemove(space, out var source)) source.TrySetResult();
    }
}
