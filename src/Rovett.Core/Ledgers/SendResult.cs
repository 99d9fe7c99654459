using Rovett.Core.Notifications;

namespace Rovett.Core.Ledgers;

/// <summary>The result of a send.</summary>
public sealed record SendResult(NotificationId Id, Position Position, IReadOnlyList<Reach> Reach, bool Repeated);
