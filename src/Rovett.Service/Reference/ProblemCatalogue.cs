using System.Text.RegularExpressions;

namespace Rovett.Service.Reference;

/// <summary>What each problem is and what to do about it: docs/problems.md, which is generated from the code.</summary>
static partial class ProblemCatalogue
{
    /// <summary>A problem of the catalogue.</summary>
    public sealed record Entry(string Slug, string Title, string Fix);

    /// <summary>The problems by the last part of their type.</summary>
    public static readonly IReadOnlyDictionary<string, Entry> All = Read();

    static Dictionary<string, Entry> Read()
    {
        using var stream = typeof(ProblemCatalogue).Assembly.GetManifestResourceStream("problems.md")!;
        return Row().Matches(new StreamReader(stream).ReadToEnd())
            .Select(m => new Entry(m.Groups[1].Value, Plain(m.Groups[2].Value), Plain(m.Groups[3].Value.Trim()))).ToDictionary(e => e.Slug);
    }

    /// <summary>A cell of the page as it was written in the code.</summary>
    static string Plain(string cell) =>
        cell.Replace("&lt;", "<", StringComparison.Ordinal).Replace("\\|", "|", StringComparison.Ordinal);

    [GeneratedRegex("""^\| <a id="([a-z0-9-]+)"></a>`[^`]+` \| [^|]+ \| ([^|]+?) \| (.*) \|\r?$""", RegexOptions.Multiline)]
    private static partial Regex Row();
}
