using Rovett.Service.Limits;

namespace Rovett.Service.Intakes.Lines;

/// <summary>How many lines a second an intake takes.</summary>
sealed class LineRate(int perSecond, TimeProvider clock)
{
    readonly Bucket? bucket = perSecond == 0 ? null : new Bucket(perSecond, clock);

    /// <summary>Waits until lines may be taken.</summary>
    public async Task Wait(int count, CancellationToken stop)
    {
        while (bucket?.TakeAll(count) is { } wait && wait > TimeSpan.Zero) await Task.Delay(wait, clock, stop);
    }

    /// <summary>Whether a line may be taken now.</summary>
    public bool Take() => bucket is null || bucket.TakeAll(1) == TimeSpan.Zero;
}
