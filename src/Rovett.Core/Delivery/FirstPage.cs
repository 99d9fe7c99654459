namespace Rovett.Core.Delivery;

/// <summary>The first page of a device that named no cursor.</summary>
/// <param name="Start">Just before the first notification that no device of the user acknowledged; the head when there is none.</param>
/// <param name="Items">The entries.</param>
/// <param name="More">There is more after it.</param>
public sealed record FirstPage(Position Start, List<FoundEntry> Items, bool More);
