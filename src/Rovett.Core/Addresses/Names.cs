using System.Text;

namespace Rovett.Core.Addresses;

/// <summary>The rule every id of a user, role, topic, device or type follows: 1–128 characters after NFC, no control
/// characters, no lone surrogates, compared byte by byte.</summary>
public static class Names
{
    /// <summary>The most characters (Unicode scalar values) an id may have after normalization.</summary>
    public const int MaxLength = 128;

    /// <summary>Brings <paramref name="text"/> into the one form in which it is stored and compared.</summary>
    /// <param name="text">What the caller wrote.</param>
    /// <param name="allowSlash">True for topics, which may hold <c>/</c>.</param>
    /// <param name="name">The NFC form, when the answer is null.</param>
    /// <returns>Null when it is a name, otherwise what is wrong with it, in words for the caller.</returns>
    public static string? Check(string? text, bool allowSlash, out string name)
    {
        name = "";
        if (string.IsNullOrEmpty(text)) return "is empty; give 1 to 128 characters";
        if (HasLoneSurrogate(text)) return "holds half of a surrogate pair; send well-formed Unicode";
        foreach (var rune in text.EnumerateRunes())
        {
            // Unicode's noncharacters, which can't be normalized.
            if ((rune.Value & 0xFFFE) == 0xFFFE || rune.Value is >= 0xFDD0 and <= 0xFDEF) return $"holds U+{rune.Value:X4}, which is no character; leave it out";
        }
        var normal = text.IsNormalized(NormalizationForm.FormC) ? text : text.Normalize(NormalizationForm.FormC);
        int count = 0;
        foreach (var rune in normal.EnumerateRunes())
        {
            if (Rune.IsControl(rune)) return $"holds the control character U+{rune.Value:X4}; leave it out";
            if (rune.Value == '/' && !allowSlash) return "holds '/', which only topics may; choose another character";
            count++;
        }
        if (count > MaxLength) return $"is {count} characters long; the limit is {MaxLength}";
        name = normal;
        return null;
    }

    /// <summary>True when the text holds half of a surrogate pair, which no well-formed UTF-8 can carry.</summary>
    public static bool HasLoneSurrogate(ReadOnlySpan<char> text)
    {
        for (int i = 0; i < text.Length; i++)
        {
            if (!char.IsSurrogate(text[i])) continue;
            if (char.IsHighSurrogate(text[i]) && i + 1 < text.Length && char.IsLowSurrogate(text[i + 1])) i++;
            else return true;
        }
        return false;
    }
}
