using Rovett.Core.Visibility;

namespace Rovett.Core.Wire;

/// <summary>A message that is not a notification: its kind, the cursor it moves to (null: none), its JSON.</summary>
public sealed record ControlMessage(string Kind, string? Cursor, byte[] Json)
{
    /// <summary>Of a message about channels: the list.</summary>
    public ChannelList? Channels { get; init; }

    /// <summary>The address that it came by, or, of presence, what it shows: it does not leave for a session that is
    /// not on its channel any more. Null: it came by none.</summary>
    public string? Address { get; init; }
}
