using Rovett.Core.Notifications;

namespace Rovett.Core.Store;

/// <summary>The part of a stored entry that is sent to devices.</summary>
public sealed record EntryText(EntryKind Kind, StoredTime Time, NotificationId Id, byte[] Body);
