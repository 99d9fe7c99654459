using Rovett.Core.Notifications;

namespace Rovett.Core.Store;

/// <summary>One line of the receipts: a run of one log's notifications reached a state for one user, or (person 0) the
/// notification at <see cref="Position"/> changed.</summary>
public sealed record ReceiptRow(long Number, StoredTime Time, ReceiptState State, long Log, OrdinalRun Run, long Person, string Device,
    long Position, string Detail);
