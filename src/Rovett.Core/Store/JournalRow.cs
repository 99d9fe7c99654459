using Rovett.Core.Notifications;

namespace Rovett.Core.Store;

/// <summary>A change of one notification in one log. <see cref="Turn"/>: −1 when it died by it, 1 when it came back to
/// life, 0 when neither.</summary>
public readonly record struct JournalRow(long Position, long Ordinal, EntryKind Kind, int Turn);
