namespace Rovett.Core.Store;

/// <summary>A batch was not stored, because another has taken one of its spaces.</summary>
/// <param name="space">The space.</param>
/// <param name="error">What the store said.</param>
public sealed class DeposedException(int space, Exception error)
    : IOException($"Another writer has taken the space {space}.", error)
{
    /// <summary>The space.</summary>
    public int Space => space;
}
