namespace Rovett.Core.Store;

/// <summary>Work that is due at a time.</summary>
public enum DueKind
{
    /// <summary>The notification at a position expires.</summary>
    Expiry = 1,
    /// <summary>The taking of the notification at a position ends.</summary>
    TakeEnd = 2,
    /// <summary>A deadline of the notification at a position.</summary>
    Deadline = 3,
    /// <summary>The grant given at a position ends.</summary>
    GrantEnd = 4,
    /// <summary>No token can still run that a person had who was erased; the position is the person's number.</summary>
    TombstoneEnd = 5,
    /// <summary>A gathering closes; the position is its number.</summary>
    GatheringEnd = 6,
}

/// <summary>Something due. <see cref="Number"/> tells several of one notification apart.</summary>
public readonly record struct DueRow(StoredTime At, DueKind Kind, long Position, int Number);
