namespace Rovett.Core.Store;

/// <summary>Where a notification stands: a log and the ordinal in it.</summary>
public readonly record struct Placement(long Log, long Ordinal);
