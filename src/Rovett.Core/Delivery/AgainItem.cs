namespace Rovett.Core.Delivery;

/// <summary>A notification that a device wants once more.</summary>
public readonly record struct AgainItem(long Position, long Log, long Ordinal, int Attempt);
