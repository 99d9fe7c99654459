namespace Rovett.Core.Store;

/// <summary>The stored state of the clock. Times in microseconds.</summary>
/// <param name="Shift">How far the believed time is ahead of the due time, by all steps that were believed.</param>
/// <param name="HeldBack">How far retention's time is behind the believed time.</param>
/// <param name="HeldSince">The due time since when; 0 when it is not.</param>
/// <param name="SeenTime">The believed time when this was stored.</param>
/// <param name="SeenDue">The due time when this was stored.</param>
/// <param name="Boot">The boot of the machine in which it was stored; empty: not known.</param>
/// <param name="SeenElapsed">The elapsed time in that boot.</param>
public readonly record struct ClockRow(long Shift, long HeldBack, long HeldSince, long SeenTime, long SeenDue, string Boot,
    long SeenElapsed);

/// <summary>A step of the system's clock that is not believed yet.</summary>
/// <param name="By">How far it went, from the believed time.</param>
/// <param name="For">For how long it has been so.</param>
public readonly record struct ClockStep(TimeSpan By, TimeSpan For);
