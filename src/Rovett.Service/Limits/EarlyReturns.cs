using System.Diagnostics;
using Microsoft.AspNetCore.Connections.Features;

namespace Rovett.Service.Limits;

/// <summary>Delays callers that come back on the same connection before the time they were given, so that their repeated requests cost
/// others nothing. Safe to call from any thread.</summary>
public sealed class EarlyReturns
{
    const int MostHeld = 10_000;
    static readonly TimeSpan Spread = TimeSpan.FromSeconds(1);

    int held;

    /// <summary>Notes when a caller that is refused is to come back.</summary>
    /// <param name="context">Its request.</param>
    /// <param name="why">What it was refused for: compared as a key, and only one time is kept for each.</param>
    /// <param name="after">When to come back.</param>
    public static void Tell(HttpContext context, object why, TimeSpan after)
    {
        if (context.Features.Get<IConnectionItemsFeature>()?.Items is not { } connection) return;
        lock (connection) connection[why] = Stopwatch.GetTimestamp() + (after.Ticks * Stopwatch.Frequency / TimeSpan.TicksPerSecond);
    }

    /// <summary>Delays a request that came too early until the time its caller was given, and by up to a second more, so that callers
    /// don't all continue at the same moment. Returns at once for everybody else, and when 10,000 wait already.</summary>
    /// <param name="context">Its request.</param>
    /// <param name="why">What it was refused for.</param>
    public async ValueTask Hold(HttpContext context, object why)
    {
        if (Left(context, why) is not { } left) return;
        try
        {
            if (Interlocked.Increment(ref held) <= MostHeld)
            {
                await Task.Delay(left + (Random.Shared.NextDouble() * Spread), context.RequestAborted);
            }
        }
        finally
        {
            Interlocked.Decrement(ref held);
        }
    }

    static TimeSpan? Left(HttpContext context, object why)
    {
        if (context.Features.Get<IConnectionItemsFeature>()?.Items is not { } connection) return null;
        lock (connection)
        {
            if (!connection.TryGetValue(why, out var told)) return null;
            long now = Stopwatch.GetTimestamp(), until = (long)told!;
            if (until > now) return Stopwatch.GetElapsedTime(now, until);
            connection.Remove(why);
            return null;
        }
    }
}
