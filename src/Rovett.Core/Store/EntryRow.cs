using Rovett.Core.Addresses;
using Rovett.Core.Notifications;

namespace Rovett.Core.Store;

/// <summary>A stored entry. <see cref="Body"/> is the part of the message that is the same for everybody, without
/// braces; <see cref="Addressing"/> is the full <c>to</c> and <c>except</c>, for backends only; <see cref="Id"/> that of
/// the notification it is or speaks of.</summary>
public sealed record EntryRow(Position Position, StoredTime Time, EntryKind Kind, NotificationId Id, byte[] Body, Addressing Addressing,
    Placement[] Placements, NotificationTraits Traits);
