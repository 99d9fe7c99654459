namespace Rovett.Core.Values;

/// <summary>Lists of texts in which a <c>*</c> at the end stands for the rest.</summary>
public static class Patterns
{
    /// <summary>Whether one of them covers a text; an empty list covers everything.</summary>
    public static bool Cover(IReadOnlyList<string> patterns, string text)
    {
        if (patterns.Count == 0) return true;
        foreach (var pattern in patterns)
        {
            if (pattern.EndsWith('*') ? text.StartsWith(pattern.AsSpan(0, pattern.Length - 1), StringComparison.Ordinal) : pattern == text)
            {
                return true;
            }
        }
        return false;
    }
}
