namespace Rovett.Core.Store;

/// <summary>A stored space. Entries up to <see cref="Floor"/> are no longer stored.</summary>
public sealed record SpaceRow(int Id, string Name, byte[] Key, long Head, StoredTime LastTime, long Floor);
