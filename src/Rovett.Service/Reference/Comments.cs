using System.Text.RegularExpressions;

namespace Rovett.Service.Reference;

/// <summary>Texts out of comments in the code.</summary>
static partial class Comments
{
    /// <summary>The text without the line breaks that it has in the code.</summary>
    public static string? OneLine(string? text) => text is null ? null : Breaks().Replace(text, " ");

    [GeneratedRegex(@"\s*\n\s*")]
    private static partial Regex Breaks();
}
