namespace Rovett.Core.Store;

/// <summary>A stored log.</summary>
public sealed record LogRow(long Id, string Key, long Head, long HeadPosition, long Trimmed, LostNotification Lost, long ChangedAt);
