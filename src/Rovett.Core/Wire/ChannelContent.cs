namespace Rovett.Core.Wire;

/// <summary>What a message shows of a channel.</summary>
public enum ChannelView
{
    /// <summary>Something said or sent on it.</summary>
    Content,
    /// <summary>The people on it.</summary>
    People,
    /// <summary>How many people are on it.</summary>
    Count,
}

/// <summary>The channel that a message came by, and what it shows of it.</summary>
public readonly record struct ChannelContent(string Address, ChannelView View);
