using Rovett.Core.Visibility;

namespace Rovett.Core.Wire;

/// <summary>A message that is not a notification: its kind, the cursor it moves to (null: none), its JSON.</summary>
public sealed record ControlMessage(string Kind, string? Cursor, byte[] Json)
{
    /// <summary>Of a message about channels: the list.</summary>
    public ChannelList? Channels { get; init; }

    /// <summary>What it shows of a channel: it does not leave for a session that may no longer see that. Null: nothing.</summary>
    public ChannelContent? Shows { get; init; }
}
