namespace Rovett.Core.Store;

/// <summary>A batch was not stored, because another has taken one of its spaces.</summary>
/// <param name="space">The space.</param>
/// <param name="isLost">The space is another's from now on; false: it may be taken again.</param>
/// <param name="error">What the store said; null: it was asked who owns the space.</param>
public sealed class DeposedException(int space, bool isLost = false, Exception? error = null)
    : IOException($"Another writer has taken the space {space}.", error)
{
    /// <summary>The space; 0: what belongs to none.</summary>
    public int Space => space;

    /// <summary>The space is another's from now on.</summary>
    public bool IsLost => isLost;
}
