using System.Globalization;
using System.Text;

namespace Rovett.Core.Addresses;

/// <summary>The rule for topics: a name (<see cref="Names"/>) made of parts with <c>/</c> between them, such as
/// <c>berth/3</c>. Stricter than other names, because patterns decide by the parts who may be there: what looks like
/// another topic, or like a pattern, is refused.</summary>
public static class TopicNames
{
    /// <summary>Brings a topic into the one form in which it is stored and compared.</summary>
    /// <returns>Null when it is a topic, otherwise what is wrong with it, in words for the caller.</returns>
    public static string? Check(string? text, out string topic)
    {
        if (Names.Check(text, allowSlash: true, out topic) is { } wrong) return wrong;
        foreach (var rune in topic.EnumerateRunes())
        {
            if (rune.Value is '{' or '}' or '*') return $"contains '{rune}', which only patterns may; name one topic";
            var category = Rune.GetUnicodeCategory(rune);
            if (category is UnicodeCategory.Format or UnicodeCategory.LineSeparator or UnicodeCategory.ParagraphSeparator
                or UnicodeCategory.PrivateUse or UnicodeCategory.OtherNotAssigned)
                return $"contains the invisible character U+{rune.Value:X4}; leave it out";
            if (category == UnicodeCategory.SpaceSeparator && rune.Value != ' ')
            {
                return $"contains U+{rune.Value:X4}, which looks like a space and is none; leave it out";
            }
        }
        foreach (var part in topic.Split('/'))
        {
            if (part.Length == 0) return "has an empty part; write parts with one '/' between them, and none at the beginning or the end";
            if (part is "." or "..") return $"has the part '{part}', which means nothing here; leave it out";
            if (part[0] == ' ' || part[^1] == ' ') return "has a part that begins or ends with a space; leave it out";
        }
        return null;
    }
}
