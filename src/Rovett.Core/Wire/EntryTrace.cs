using System.Diagnostics;

namespace Rovett.Core.Wire;

/// <summary>The trace that a notification belongs to, on its way to devices. A notification that goes to very many shows the first few.
/// Thread-safe.</summary>
/// <param name="context">Where in the trace it was sent.</param>
public sealed class EntryTrace(ActivityContext context)
{
    const int Shown = 20;
    int left = Shown;

    /// <summary>Where in the trace it was sent.</summary>
    public ActivityContext Context => context;

    /// <summary>Whether one more delivery is shown.</summary>
    public bool TakeOne() => Volatile.Read(ref left) > 0 && Interlocked.Decrement(ref left) >= 0;
}

/// <summary>A traced notification that a session's connection took.</summary>
/// <param name="Trace">Its trace.</param>
/// <param name="Entry">The notification.</param>
/// <param name="Log">Its log.</param>
/// <param name="Ordinal">Its number there.</param>
public sealed record TracedDispatch(EntryTrace Trace, OutgoingEntry Entry, long Log, long Ordinal);
