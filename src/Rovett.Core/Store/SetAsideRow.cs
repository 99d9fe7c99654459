namespace Rovett.Core.Store;

/// <summary>Work set aside because it could not be carried out.</summary>
public enum AsideKind
{
    /// <summary>Something due: an expiry, the end of a taking, a deadline, the end of a grant.</summary>
    Due = 1,
    /// <summary>The notification for a missed deadline.</summary>
    Otherwise = 2,
    /// <summary>An event for which a rule failed.</summary>
    Event = 3,
    /// <summary>The notification that closes a gathering.</summary>
    Gathering = 4,
    /// <summary>Something a source delivered that is not an event, or may not be taken.</summary>
    Intake = 5,
}

/// <summary>Something that was set aside.</summary>
/// <param name="Time">When.</param>
/// <param name="Kind">Its kind.</param>
/// <param name="Position">The entry that it belongs to.</param>
/// <param name="Why">Why it could not be carried out.</param>
/// <param name="Detail">What it was, as a JSON object.</param>
public sealed record SetAsideRow(StoredTime Time, AsideKind Kind, long Position, string Why, string Detail)
{
    /// <summary>Its number.</summary>
    public long Number { get; init; }
    /// <summary>Its identity within its source: it is set aside only once, however often it is delivered. Null: unknown.</summary>
    public string? Origin { get; init; }
}
