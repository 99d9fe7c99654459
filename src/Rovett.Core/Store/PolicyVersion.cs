using Rovett.Core.Policies;

namespace Rovett.Core.Store;

/// <summary>A stored version of a space's policies.</summary>
/// <param name="Position">The entry that loaded it.</param>
/// <param name="Time">When.</param>
/// <param name="Document">As it was loaded: JSON (<see cref="PolicyReader"/>).</param>
public sealed record PolicyVersion(long Position, StoredTime Time, byte[] Document);
