namespace Rovett.Core.Store;

/// <summary>One interval in which a user held a role, in positions: after <see cref="After"/>, up to <see cref="Until"/>
/// (null: still). <see cref="Gained"/>: the entry that opened it; newcomers see some of what was before.</summary>
public sealed record Membership(string Address, long After, long? Until, long Gained);
