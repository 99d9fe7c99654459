using Rovett.Core.Notifications;

namespace Rovett.Core.Store;

/// <summary>What of a stored entry goes out.</summary>
public sealed record EntryText(EntryKind Kind, StoredTime Time, NotificationId Id, byte[] Body);
