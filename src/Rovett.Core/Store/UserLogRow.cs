namespace Rovett.Core.Store;

/// <summary>What is stored of one user in one log beside the blocks. <see cref="Gone"/> is null when it must be counted
/// anew: how many notifications above the read line and what is trimmed are alive and yet not unread, as of the change
/// at <see cref="JournalSeen"/>. <see cref="Segments"/> is null when they must be computed anew.</summary>
public sealed record UserLogRow(long Log, long ReadLine, long ReceivedLine, long HandledLine, long MutedLine, long? Gone, long JournalSeen,
    long MutedThrough, UserLogParts Parts, Segment[]? Segments);

/// <summary>What is stored of a user in a log apart from the row, so that what is not there is never asked for.</summary>
[Flags]
public enum UserLogParts
{
    /// <summary>Nothing.</summary>
    None = 0,
    /// <summary>Blocks of read marks.</summary>
    Read = 1,
    /// <summary>Blocks of received marks.</summary>
    Received = 2,
    /// <summary>Blocks of handled marks.</summary>
    Handled = 4,
    /// <summary>Blocks of muted notifications.</summary>
    Muted = 8,
    /// <summary>Ordinals the person is left out of.</summary>
    Skips = 16,
}
