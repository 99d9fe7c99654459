namespace Rovett.Core.Delivery;

/// <summary>How far a user's devices were written to, over all of them. Touched by the sessions' writers.</summary>
public sealed class DispatchMark
{
    long through;

    /// <summary>True for the first device that is written this position.</summary>
    public bool Advance(long position)
    {
        long seen = Volatile.Read(ref through);
        while (position > seen)
        {
            long found = Interlocked.CompareExchange(ref through, position, seen);
            if (found == seen) return true;
            seen = found;
        }
        return false;
    }
}
