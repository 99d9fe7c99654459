using System.Globalization;
using System.Text;

namespace Rovett.Core.Addresses;

/// <summary>The rule every id of a user, role, topic or device follows: 1–128 characters after NFC, no control characters, no lone
/// surrogates, nothing invisible (bidirectional controls, zero-width characters and other ignorable ones, as PRECIS refuses them,
/// RFC 8264 §9), compared byte by byte.</summary>
public static class Names
{
    /// <summary>The most characters (Unicode scalar values) an id may have after normalization.</summary>
    public const int MaxLength = 128;

    /// <summary>Brings <paramref name="text"/> into the one form in which it is stored and compared.</summary>
    /// <param name="text">The text as given.</param>
    /// <param name="allowSlash">True for topics, which may hold <c>/</c>.</param>
    /// <param name="name">The NFC form, when the answer is null.</param>
    /// <returns>Null when it is a name, otherwise what is wrong with it, in words for the caller.</returns>
    public static string? Check(string? text, bool allowSlash, out string name)
    {
        if (CheckLabel(text, allowSlash, out name) is { } wrong) return wrong;
        foreach (var rune in name.EnumerateRunes())
        {
            if (!IsIgnorable(rune)) continue;
            name = "";
            return $"contains the invisible character U+{rune.Value:X4}; leave it out";
        }
        return null;
    }

    /// <summary>The same rule for names used only in paths, where <c>.</c> and <c>..</c> would be lost.</summary>
    /// <inheritdoc cref="Check"/>
    public static string? CheckForPath(string? text, out string name) =>
        Check(text, allowSlash: false, out name) is { } wrong ? wrong : name is "." or ".."
        ? $"is '{name}', which paths take for something else; choose another"
        : null;

    /// <summary>True for characters that are not seen: format characters (bidirectional controls, zero-width ones),
    /// line and paragraph separators, fillers, variation selectors.</summary>
    static bool IsIgnorable(Rune rune) =>
        rune.Value > 0x7F
        && (Rune.GetUnicodeCategory(rune) is UnicodeCategory.Format or UnicodeCategory.LineSeparator or UnicodeCategory.ParagraphSeparator
            || rune.Value is 0x034F or 0x115F or 0x1160 or 0x17B4 or 0x17B5 or (>= 0x180B and <= 0x180F) or 0x3164
            or (>= 0xFE00 and <= 0xFE0F) or 0xFFA0 or (>= 0xE0000 and <= 0xE0FFF));

    /// <summary>Normalizes an id that may exist already, whatever characters it has;
    /// null when it cannot be stored.</summary>
    public static string? Normal(string? text) => CheckLabel(text, allowSlash: true, out var name) is null ? name : null;

    /// <summary>The same rule for display names: invisible characters are allowed, as emoji need them.</summary>
    /// <inheritdoc cref="Check"/>
    public static string? CheckLabel(string? text, bool allowSlash, out string name)
    {
        name = "";
        if (string.IsNullOrEmpty(text)) return "is empty; give 1 to 128 characters";
        if (JsonText.HasLoneSurrogate(text)) return "contains half of a surrogate pair; send well-formed Unicode";
        foreach (var rune in text.EnumerateRunes())
        {
            // Unicode's noncharacters, which can't be normalized.
            if ((rune.Value & 0xFFFE) == 0xFFFE || rune.Value is >= 0xFDD0 and <= 0xFDEF)
            {
                return $"contains U+{rune.Value:X4}, which is not a character; leave it out";
            }
        }
        var normal = text.IsNormalized(NormalizationForm.FormC) ? text : text.Normalize(NormalizationForm.FormC);
        int count = 0;
        foreach (var rune in normal.EnumerateRunes())
        {
            if (Rune.IsControl(rune)) return $"contains the control character U+{rune.Value:X4}; leave it out";
            if (rune.Value == '/' && !allowSlash) return "contains '/', which only topics may; choose another character";
            count++;
        }
        if (count > MaxLength) return $"is {count} characters long; the limit is {MaxLength}";
        name = normal;
        return null;
    }
}
