namespace Rovett.Core.Values;

/// <summary>One life of a store: random, and replaced when a backup is restored.</summary>
public readonly record struct Epoch(Guid Value)
{
    /// <summary>A new life.</summary>
    public static Epoch New() => new(Guid.NewGuid());
    /// <inheritdoc/>
    public override string ToString() => Value.ToString("N");
}
