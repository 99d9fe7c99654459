namespace Rovett.Core.Visibility;

/// <summary>The totals after a change, in all and by the address that reached the user.</summary>
public sealed record TotalsBy(Totals Totals, IReadOnlyList<KeyValuePair<string, long>> By);
