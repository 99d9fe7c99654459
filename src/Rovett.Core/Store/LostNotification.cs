namespace Rovett.Core.Store;

/// <summary>The newest that retention took of a log: its position and time, and the highest ordinal that was concerned.</summary>
public readonly record struct LostNotification(long Ordinal, long Position, StoredTime Time);
