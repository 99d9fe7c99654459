namespace Rovett.Core.Store;

/// <summary>A notification somebody has taken. <see cref="Until"/> is null when it does not end by itself.</summary>
public sealed record TakeRow(long Position, long Person, Placement Place, StoredTime? Until);
