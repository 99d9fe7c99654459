namespace Rovett.Core.Store;

/// <summary>A part of a log that a user may see: ordinals in (<see cref="Lo"/>, <see cref="Hi"/>], reached by the
/// log's address number <see cref="AddressIndex"/>.</summary>
public readonly record struct Segment(long Lo, long Hi, int AddressIndex);
