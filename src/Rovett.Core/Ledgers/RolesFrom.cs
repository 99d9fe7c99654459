namespace Rovett.Core.Ledgers;

/// <summary>Where a user's roles come from.</summary>
public enum RolesFrom
{
    /// <summary>What the newest token names and what the directory names, together.</summary>
    Both,
    /// <summary>What the newest token names.</summary>
    Token,
    /// <summary>What the directory names.</summary>
    Directory,
}
