namespace Rovett.Core.Delivery;

/// <summary>How far a user's devices were written to, over all of them. Touched by the sessions' writers.</summary>
public sealed class DispatchMark
{
    long through;

    /// <summary>Moves the mark forward; it never goes back.</summary>
    /// <returns>Where it was: what lies after it and up to <paramref name="position"/>, this device was the first to be written.</returns>
    public long Advance(long position)
    {
        long seen = Volatile.Read(ref through);
        while (position > seen)
        {
            long found = Interlocked.CompareExchange(ref through, position, seen);
            if (found == seen) return seen;
            seen = found;
        }
        return seen;
    }
}
