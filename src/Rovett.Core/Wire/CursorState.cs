namespace Rovett.Core.Wire;

/// <summary>What a cursor turned out to be.</summary>
public enum CursorState
{
    /// <summary>Of this space and epoch.</summary>
    Valid,
    /// <summary>Not 22 characters of base64url: nobody's cursor.</summary>
    Malformed,
    /// <summary>Well formed, but not sealed by this space in this epoch: another space's, an earlier epoch's, or made up.</summary>
    Foreign,
}
