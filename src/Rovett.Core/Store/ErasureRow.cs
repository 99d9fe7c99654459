namespace Rovett.Core.Store;

/// <summary>The stages of an erasure, in order.</summary>
public enum ErasureStage
{
    /// <summary>What missed deadlines are to send otherwise.</summary>
    Deadlines = 0,
    /// <summary>The keys of slots.</summary>
    Slots = 1,
    /// <summary>Work set aside.</summary>
    SetAside = 2,
    /// <summary>The person's own notifications.</summary>
    Own = 3,
    /// <summary>Notifications that name or except the person beside others.</summary>
    Named = 4,
    /// <summary>Entries that say who took something over, or missed a deadline.</summary>
    Acts = 5,
    /// <summary>Receipts.</summary>
    Receipts = 6,
    /// <summary>Open gatherings.</summary>
    Gatherings = 7,
    /// <summary>Webhook calls and e-mails that wait.</summary>
    Outbound = 8,
    /// <summary>Events that are kept as they came, and what they are about.</summary>
    Events = 9,
}

/// <summary>An erasure under way.</summary>
/// <param name="Person">The person's number.</param>
/// <param name="Name">The id that is erased.</param>
/// <param name="Log">The personal log.</param>
/// <param name="Position">The entry that says so: what comes after it is another person's of the same id.</param>
/// <param name="Receipt">The newest receipt then.</param>
/// <param name="Stage">The current stage.</param>
/// <param name="At">How far.</param>
/// <param name="Scrubbed">Notifications scrubbed so far.</param>
/// <param name="Began">When it began.</param>
public sealed record ErasureRow(long Person, string Name, long Log, long Position, long Receipt, ErasureStage Stage, long At, long Scrubbed,
    StoredTime Began)
{
    /// <summary>The number of the newest gathering then: those that open later are another person's of the same id.</summary>
    public long Gathering { get; init; }

    /// <summary>The person's pseudonym.</summary>
    public string Pseudonym => $"erased-{Person}";
}

/// <summary>How an erasure stands.</summary>
public sealed record ErasureState(ErasureRow Row, bool Done);
