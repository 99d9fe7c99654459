using System.Security.Cryptography;

namespace Rovett.Service.Outbound;

/// <summary>How long to wait before something that failed is tried again.</summary>
static class OutboundPause
{
    static readonly TimeSpan Longest = TimeSpan.FromHours(1), ShortestAsked = TimeSpan.FromSeconds(1);

    /// <summary>Twice as long after each failure, up to an hour, with jitter; or as long as the other side asked for.</summary>
    /// <param name="failures">Failures in a row before this one.</param>
    /// <param name="asked">What the other side asked for; null: nothing.</param>
    public static TimeSpan After(long failures, TimeSpan? asked)
    {
        var pause = TimeSpan.FromSeconds(
            Math.Pow(2, Math.Min(failures, 12)) * (1 + (RandomNumberGenerator.GetInt32(250) / 1000.0)));
        if (asked is { } wanted) pause = wanted > ShortestAsked ? wanted : ShortestAsked;
        return pause < Longest ? pause : Longest;
    }
}
