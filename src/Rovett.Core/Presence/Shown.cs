namespace Rovett.Core.Presence;

/// <summary>The form in which presence was last shown to a session.</summary>
enum ShownAs
{
    /// <summary>Nothing yet: send everything.</summary>
    Nothing,
    /// <summary>Each person: send changes.</summary>
    People,
    /// <summary>How many.</summary>
    Count,
}

/// <summary>The presence last shown to a session.</summary>
record struct Shown(ShownAs Is, bool CountOnly)
{
    public static readonly Shown Nothing = new(ShownAs.Nothing, false);
}
