namespace Rovett.Core.Store;

/// <summary>Where one mute holds in one log.</summary>
/// <param name="Log">The log.</param>
/// <param name="IsType">Of a type; false: about a subject.</param>
/// <param name="Hash">The type's or the subject's.</param>
/// <param name="After">Above this ordinal.</param>
/// <param name="UpTo">Up to this ordinal.</param>
/// <param name="Since">Above this position.</param>
/// <param name="Until">Up to this position.</param>
public readonly record struct MutedRange(long Log, bool IsType, long Hash, long After, long UpTo, long Since, long Until);
