namespace Rovett.Core.Values;

/// <summary>A run of ordinals, both ends included.</summary>
public readonly record struct OrdinalRun(long From, long To)
{
    /// <summary>How many ordinals it holds.</summary>
    public long Count => To - From + 1;
}
