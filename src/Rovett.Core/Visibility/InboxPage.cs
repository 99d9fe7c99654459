using Rovett.Core.Store;

namespace Rovett.Core.Visibility;

/// <summary>Which notifications of an inbox.</summary>
public enum InboxState
{
    /// <summary>Every one.</summary>
    All,
    /// <summary>Not marked read, and not muted.</summary>
    Unread,
    /// <summary>Marked read.</summary>
    Read,
}

/// <summary>A notification of an inbox: its entry, the address by which it reached the user, and its place.</summary>
public sealed record InboxItem(EntryRow Entry, string Address, long Log, long Ordinal)
{
    /// <summary>When a device of the user acknowledged it.</summary>
    public StoredTime? Received { get; init; }
    /// <summary>When the user saw it.</summary>
    public StoredTime? Read { get; init; }
    /// <summary>Arrived while muted by the user.</summary>
    public bool Muted { get; init; }
    /// <summary>The user has taken it.</summary>
    public bool Taken { get; init; }
}

/// <summary>A page of an inbox, and whether there is more beyond it.</summary>
public sealed record InboxPage(IReadOnlyList<InboxItem> Items, bool More);
