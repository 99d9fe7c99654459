namespace Rovett.Core.Presence;

/// <summary>What a session was last shown of who is on an address.</summary>
enum ShownAs
{
    /// <summary>Nothing: it is to be shown all.</summary>
    Nothing,
    /// <summary>Each person: it is to be shown what changes.</summary>
    People,
    /// <summary>How many.</summary>
    Count,
}

/// <summary>What a session was last shown of a channel's presence.</summary>
record struct Shown(ShownAs Is, bool CountOnly)
{
    public static readonly Shown Nothing = new(ShownAs.Nothing, false);
}
