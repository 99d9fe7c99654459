namespace Rovett.Core.Ledgers;

/// <summary>The cursor of a device that starts a session.</summary>
/// <param name="After">The position up to which it has everything; null when it named none; long.MaxValue for "now".</param>
/// <param name="Foreign">The cursor it named is not of this store's present life.</param>
public readonly record struct DevicePoint(long? After, bool Foreign);
