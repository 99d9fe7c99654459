using Rovett.Core.Ledgers;

namespace Rovett.Service.Ledgers;

/// <summary>For how long this process may act for the spaces that it serves: from each sign of life that the database took, for a little
/// less than the others wait before they take its spaces. Without other nodes: always. Thread-safe.</summary>
/// <param name="elapsed">Time that passes, also while the machine sleeps; null: the lease never ends.</param>
public sealed class Lease(IElapsedTime? elapsed)
{
    /// <summary>For how long a sign of life holds.</summary>
    public static readonly TimeSpan Lasts = TimeSpan.FromSeconds(2.5);

    long heldAt = long.MinValue, unbrokenSince;

    /// <summary>What is served may be written and told.</summary>
    public bool Holds => elapsed is null || (Volatile.Read(ref heldAt) is var at && at != long.MinValue
        && elapsed.Elapsed.Ticks - at < Lasts.Ticks);

    /// <summary>For how long it holds yet, if nothing is heard any more.</summary>
    public TimeSpan Left => elapsed is null ? Lasts : Lasts - Age is var left && left > TimeSpan.Zero ? left : TimeSpan.Zero;

    /// <summary>How long ago the last sign of life was begun that was taken.</summary>
    public TimeSpan Age => elapsed is null ? TimeSpan.Zero
        : Volatile.Read(ref heldAt) is var at && at == long.MinValue ? TimeSpan.MaxValue : elapsed.Elapsed - TimeSpan.FromTicks(at);

    /// <summary>For how long it has held without a break.</summary>
    public TimeSpan Unbroken => Holds && elapsed is not null ? elapsed.Elapsed - TimeSpan.FromTicks(Volatile.Read(ref unbrokenSince))
        : TimeSpan.Zero;

    /// <summary>The time now, for <see cref="Renewed"/>.</summary>
    public TimeSpan Now => elapsed?.Elapsed ?? TimeSpan.Zero;

    /// <summary>A sign of life was taken.</summary>
    /// <param name="begun">When it was begun.</param>
    public void Renewed(TimeSpan begun)
    {
        if (!Holds) Volatile.Write(ref unbrokenSince, begun.Ticks);
        Volatile.Write(ref heldAt, begun.Ticks);
    }
}
