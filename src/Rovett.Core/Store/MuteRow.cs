namespace Rovett.Core.Store;

/// <summary>A type or a subject that a person does not want to be told of. In positions: after <see cref="After"/>, up
/// to <see cref="Until"/> (null: still).</summary>
public sealed record MuteRow(bool IsType, string Text, long After, long? Until, StoredTime Since);
