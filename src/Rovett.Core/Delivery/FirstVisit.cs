namespace Rovett.Core.Delivery;

/// <summary>Catch-up for a device without a cursor: of the notifications up to <paramref name="UpTo"/>, when its session
/// began, those acknowledged by any device of the user are skipped, and changes before <paramref name="Since"/>.</summary>
public sealed record FirstVisit(long Since, long UpTo);
