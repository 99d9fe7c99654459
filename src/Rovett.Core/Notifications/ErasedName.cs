namespace Rovett.Core.Notifications;

/// <summary>The stored name of a person who was erased: a pseudonym that is nobody's address, because it begins with a
/// character that no name may hold.</summary>
public static class ErasedName
{
    const char Mark = '\u0001';

    /// <summary>The stored form of a pseudonym.</summary>
    public static string Of(string pseudonym) => Mark + pseudonym;

    /// <summary>Whether a stored name, or the key of a personal log, is that of an erased person.</summary>
    public static bool Is(string stored) => stored.StartsWith(Mark);

    /// <summary>A stored name as it is shown.</summary>
    public static string Shown(string stored) => Is(stored) ? stored[1..] : stored;
}
