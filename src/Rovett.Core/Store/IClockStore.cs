namespace Rovett.Core.Store;

/// <summary>The state of the clock. Part of <see cref="ILedgerStore"/>.</summary>
public interface IClockStore
{
    /// <summary>The stored state of the clock.</summary>
    ClockRow Clock { get; }
    /// <summary>Stores what is known of the clock.</summary>
    void SaveClock(ClockRow clock);
    /// <summary>Moves every sign-out that was noted at <paramref name="from"/> or later, also of erased people; after a
    /// step back also the issue of the newest token that told roles. In all spaces; microseconds.</summary>
    void ShiftStanding(long from, long by);
    /// <summary>Puts every sign-out, also of erased people, and every issue of a token that told roles, to
    /// <paramref name="now"/> that lies ahead of it by more than <paramref name="tolerance"/>. In all spaces;
    /// microseconds.</summary>
    void CapStanding(long now, long tolerance);
}
