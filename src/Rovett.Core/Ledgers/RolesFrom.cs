namespace Rovett.Core.Ledgers;

/// <summary>Where a user's roles come from.</summary>
public enum RolesFrom
{
    /// <summary>The roles of the newest token and of the directory together.</summary>
    Both,
    /// <summary>The roles of the newest token.</summary>
    Token,
    /// <summary>The roles of the directory.</summary>
    Directory,
}
