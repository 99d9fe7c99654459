namespace Rovett.Core.Store;

/// <summary>How far an intake has read a part of its source.</summary>
/// <param name="Part">The part: a partition, a stream; empty where a source has none.</param>
/// <param name="Value">The place within it, as the intake writes it.</param>
public sealed record IntakePosition(string Part, string Value);
