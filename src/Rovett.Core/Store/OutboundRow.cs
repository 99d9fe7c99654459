namespace Rovett.Core.Store;

/// <summary>A webhook call or an e-mail that is to be made for a missed deadline.</summary>
/// <param name="Number">Its number.</param>
/// <param name="At">Not before this due time.</param>
/// <param name="Position">The position of the notification.</param>
/// <param name="Deadline">The number of its deadline.</param>
/// <param name="Item">The number within the deadline.</param>
/// <param name="Begun">The due time at which it was added.</param>
/// <param name="Attempts">How often it was tried.</param>
/// <param name="Error">Why the last attempt failed; null: it did not.</param>
/// <param name="Detail">Where to and what, as a JSON object.</param>
public sealed record OutboundRow(long Number, StoredTime At, long Position, int Deadline, int Item, StoredTime Begun, int Attempts,
    string? Error, string Detail);
