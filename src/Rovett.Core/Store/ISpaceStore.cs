namespace Rovett.Core.Store;

/// <summary>Spaces. Part of <see cref="ILedgerStore"/>.</summary>
public interface ISpaceStore
{
    /// <summary>A space by its name, or null.</summary>
    SpaceRow? FindSpace(string name);
    /// <summary>A space by its name, or null, to write to it from now on: whoever did no longer can.</summary>
    SpaceRow? TakeSpace(string name);
    /// <summary>Creates a space.</summary>
    SpaceRow AddSpace(string name, byte[] key);
    /// <summary>Stores up to where entries are gone.</summary>
    void SaveFloor(int space, long floor);
    /// <summary>Removes a space: it is no longer found; <see cref="Purge"/> lets go what it stored.</summary>
    void RemoveSpace(int space);
    /// <summary>Deletes a bounded part of the data of removed spaces.</summary>
    /// <returns>False when nothing is left of them.</returns>
    bool Purge(int limit);
}
