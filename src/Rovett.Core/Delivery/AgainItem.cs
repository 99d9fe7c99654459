namespace Rovett.Core.Delivery;

/// <summary>A notification to send again because its handler failed.</summary>
public readonly record struct AgainItem(long Position, long Log, long Ordinal, int Attempt);
