using System.Collections;
using System.Globalization;
using System.Reflection;
using System.Text;
using System.Text.RegularExpressions;
using System.Xml.Linq;
using Rovett.Service.Options;
using Rovett.Testing;
using Shouldly;
using Xunit;

namespace Rovett.Service.Tests;

/// <summary>docs/configuration.md lists every option with its default and docstring. <c>ROVETT_WRITE_DOCS=1</c> writes it.</summary>
public sealed partial class ConfigurationPageTests
{
    const string Head = """
        # Configuration

        From a YAML file (`rovett serve --config rovett.yaml`), then the environment, then flags; later ones win. All mistakes are reported at
        once, with file and line, and nothing is started. Lists are separated by commas in the environment. Settings of a space (tokens,
        origins, limits) change at run time: `rovett settings`. This page is generated from the code (`ROVETT_WRITE_DOCS=1 make test`).

        `rovett config check --config rovett.yaml` shows what holds and where it comes from, and every mistake. A running service reads the file
        again on `systemctl reload rovett` (or SIGHUP) and applies the settings marked *reload* below to whatever begins from then on; open
        sessions stay open. A file with a mistake changes nothing. Each change is written to the log and to the audit log with the old value;
        a change that needs a restart is logged as such. Each node of a cluster reads its own file.

        | YAML | environment | default | takes effect | |
        |---|---|---|---|---|

        """;

    const string Sample = """

        ## Sample
        ```yaml
        # rovett.yaml
        data: /var/lib/rovett
        address: 127.0.0.1        # behind a proxy with TLS
        port: 7411
        origins: [https://app.example]
        trustedProxies: [127.0.0.1/32]
        keepFor: 90d
        fullReceipts: [safety.*]
        sendsPerSecond: 200
        ```

        """;

    [Fact]
    public void The_page_lists_every_option_with_its_default()
    {
        var defaults = new RovettOptions();
        var docs = XDocument.Load(Path.ChangeExtension(typeof(RovettOptions).Assembly.Location, ".xml")).Descendants("member")
            .ToDictionary(m => m.Attribute("name")!.Value, m => m.Element("summary")!);
        var text = new StringBuilder(Head.ReplaceLineEndings("\n"));
        foreach (var option in typeof(RovettOptions).GetProperties(BindingFlags.Public | BindingFlags.Instance).Where(p => p.CanWrite))
        {
            var name = char.ToLowerInvariant(option.Name[0]) + option.Name[1..];
            var variable = "ROVETT_" + UpperCase().Replace(name, "_$0").ToUpperInvariant();
            var summary = Plain(docs[$"P:{typeof(RovettOptions).FullName}.{option.Name}"]);
            text.Append(CultureInfo.InvariantCulture, $"| `{name}` | `{variable}` | {Shown(option.GetValue(defaults))} | {(option.IsDefined(
                typeof(AtRunTimeAttribute)) ? "reload" : "restart")} | {summary} |\n");
        }
        text.Append(Sample.ReplaceLineEndings("\n"));
        var page = Path.Combine(ServiceProcess.Root, "docs", "configuration.md");
        if (Environment.GetEnvironmentVariable("ROVETT_WRITE_DOCS") == "1") File.WriteAllText(page, text.ToString());
        File.ReadAllText(page).ShouldBe(text.ToString(), "docs/configuration.md is not what the code says: run with ROVETT_WRITE_DOCS=1");
    }

    static string Shown(object? value) => value switch
    {
        null or "" => "–",
        bool b => b ? "`true`" : "`false`",
        IEnumerable list and not string => list.Cast<object>().Any() ? $"`{string.Join(", ", list.Cast<object>())}`" : "–",
        _ => $"`{Convert.ToString(value, CultureInfo.InvariantCulture)}`",
    };

    static string Plain(XElement summary) =>
        Spaces().Replace(
        string.Concat(summary.Nodes().Select(n => n is XElement e ? $"`{(e.Value.Length > 0 ? e.Value : Last(e))}`" : n.ToString())),
        " ").Trim();

    static string Last(XElement see)
    {
        var name = see.Attribute("cref")!.Value.Split('.')[^1];
        return char.ToLowerInvariant(name[0]) + name[1..];
    }

    [GeneratedRegex("[A-Z]")]
    private static partial Regex UpperCase();

    [GeneratedRegex(@"\s+")]
    private static partial Regex Spaces();
}
