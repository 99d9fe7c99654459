namespace Rovett.Core.Visibility;

/// <summary>A user's unread total: absolute, as of a stored time and a number of own changes.</summary>
public readonly record struct Totals(long Unread, StoredTime AsOf, long Rev);
