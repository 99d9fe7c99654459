namespace Rovett.Core.Delivery;

/// <summary>How a device is caught up that named no cursor: of what was stored up to <paramref name="UpTo"/>, when its session
/// began, what any device of the user acknowledged is left out, and changes before <paramref name="Since"/>.</summary>
public sealed record FirstVisit(long Since, long UpTo);
