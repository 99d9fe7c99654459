using System.Text;
using System.Text.RegularExpressions;
using Rovett.Testing;
using Shouldly;
using Xunit;

namespace Rovett.Service.Tests;

/// <summary>docs/problems.md lists every problem that the code can answer. <c>ROVETT_WRITE_DOCS=1</c> writes it.</summary>
public sealed partial class ProblemCatalogueTests
{
    const string Head = """
        # Problems

        Errors are RFC 9457 documents: `type`, `title`, `status`, `detail`, and `fix`, one sentence that says what to do. `type` is the URN
        `urn:rovett:problem:` with one of these names. This page is generated from the code (`ROVETT_WRITE_DOCS=1 make test`).

        | type | status | title | fix |
        |---|---|---|---|

        """;

    [Fact]
    public void The_catalogue_lists_every_problem_of_the_code()
    {
        var text = new StringBuilder(Head.ReplaceLineEndings("\n"));
        foreach (var group in Problems().GroupBy(p => p.Slug).OrderBy(g => g.Key, StringComparer.Ordinal))
        {
            var statuses = string.Join(", ", group.Select(p => p.Status).Distinct().Order());
            var titles = string.Join(" · ", group.Select(p => p.Title).Distinct());
            var fixes = string.Join(" · ", group.Select(p => p.Fix).Where(f => f.Length > 0).Distinct());
            text.Append($"| <a id=\"{group.Key}\"></a>`{group.Key}` | {statuses} | {titles} | " +
                $"{fixes.Replace("|", "\\|", StringComparison.Ordinal).Replace("<", "&lt;", StringComparison.Ordinal)} |\n");
        }
        var page = Path.Combine(ServiceProcess.Root, "docs", "problems.md");
        if (Environment.GetEnvironmentVariable("ROVETT_WRITE_DOCS") == "1") File.WriteAllText(page, text.ToString());
        File.ReadAllText(page).ShouldBe(text.ToString(), "docs/problems.md is not what the code says: run with ROVETT_WRITE_DOCS=1");
    }

    static IEnumerable<(string Status, string Slug, string Title, string Fix)> Problems()
    {
        foreach (var file in Directory.EnumerateFiles(Path.Combine(ServiceProcess.Root, "src"), "*.cs", SearchOption.AllDirectories)
            .Order(StringComparer.Ordinal))
        {
            if (file.Contains("/obj/", StringComparison.Ordinal)) continue;
            var code = File.ReadAllText(file);
            foreach (Match match in Made().Matches(code))
            {
                var strings = Literals(code, match.Index + match.Length).ToList();
                yield return (match.Groups[1].Length > 0
                    ? match.Groups[1].Value
                    : "401", match.Groups[2].Value, match.Groups[3].Value, strings.Count > 0 ? strings[^1] : "");
            }
        }
    }

    /// <summary>The text arguments from a place up to the end of the call, parts joined by + as one.</summary>
    static IEnumerable<string> Literals(string code, int at)
    {
        string? current = null;
        bool joins = false;
        for (int depth = 1; at < code.Length && depth > 0; at++)
        {
            switch (code[at])
            {
                case '(' or '[' or '{':
                    depth++;
                    break;
                case ')' or ']' or '}':
                    depth--;
                    break;
                case '+':
                    joins = true;
                    break;
                case '"':
                    var literal = new StringBuilder();
                    bool interpolated = code[at - 1] == '$';
                    for (at++; code[at] != '"'; at++)
                    {
                        if (code[at] == '\\') literal.Append(code[++at]);
                        else if (interpolated && code[at] == '{') (at, _) = (Closing(code, at), literal.Append('…'));
                        else literal.Append(code[at]);
                    }
                    if (depth != 1) break;
                    if (joins && current is not null) current += literal;
                    else
                    {
                        if (current is not null) yield return current;
                        current = literal.ToString();
                    }
                    joins = false;
                    break;
            }
        }
        if (current is not null) yield return current;
    }

    static int Closing(string code, int at)
    {
        int depth = 0;
        for (; ; at++)
        {
            if (code[at] == '{') depth++;
            if (code[at] == '}' && --depth == 0) return at;
        }
    }

    [GeneratedRegex("""(?:(?<=\()(?<!Refuses\()(\d{3}),\s*|Refused\()"([a-z0-9-]+)",\s*"([^"\n]+)",""")]
    private static partial Regex Made();
}
