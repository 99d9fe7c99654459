using System.Text.Json.Nodes;
using System.Text.RegularExpressions;
using Rovett.Testing;
using Shouldly;
using Xunit;
using YamlDotNet.RepresentationModel;

namespace Rovett.Service.Tests;

/// <summary>Alerts and dashboard name metrics that exist, and every alert says what to do.</summary>
public sealed partial class WatchTests
{
    static readonly string[] Attributes = ["rovett_space", "rovett_transport", "rovett_outcome", "rovett_intake", "rovett_webhook",
        "rovett_lane"];

    static string Doc(params string[] path) => File.ReadAllText(Path.Combine([ServiceProcess.Root, "docs", .. path]));

    static void RequireKnown(string expression, string where)
    {
        var page = Doc("metrics.md");
        var known = Known().Matches(page).Select(m => m.Groups[1].Value).ToHashSet();
        known.Count.ShouldBeGreaterThan(20);
        foreach (var name in Names().Matches(expression).Select(m => Regex.Replace(m.Value, "_(bucket|count|sum)$", "")).Except(Attributes))
        {
            (known.Contains(name) || (name.StartsWith("rovett_node_", StringComparison.Ordinal)
                && page.Contains(name.Replace("_seconds", "").Replace("rovett_node_", "rovett.node."),
                StringComparison.Ordinal))).ShouldBeTrue($"{where} names {name}, which docs/metrics.md does not have");
        }
    }

    [Fact]
    public void Alerts_name_metrics_that_exist_and_lead_to_the_runbook()
    {
        var yaml = new YamlStream();
        yaml.Load(new StringReader(Doc("watch", "alerts.yaml")));
        var rules = (YamlSequenceNode)yaml.Documents[0].RootNode["groups"][0]["rules"];
        var runbook = Doc("runbook.md");
        rules.Children.Count.ShouldBeGreaterThan(12);
        foreach (var rule in rules)
        {
            var name = (string)rule["alert"]!;
            RequireKnown((string)rule["expr"]!, name);
            ((string)rule["labels"]["severity"]!).ShouldBeOneOf("page", "ticket");
            ((string)rule["annotations"]["runbook"]!).ShouldBe("docs/runbook.md#" + name.ToLowerInvariant());
            runbook.ShouldContain($"<a id=\"{name.ToLowerInvariant()}\"></a>{name} |");
        }
        Regex.Count(runbook, @"<a id=""rovett").ShouldBe(rules.Children.Count, "and no other");
    }

    [Fact]
    public void The_dashboard_names_metrics_that_exist()
    {
        var panels = JsonNode.Parse(Doc("watch", "dashboard.json"))!["panels"]!.AsArray();
        panels.Count.ShouldBeGreaterThan(8);
        foreach (var panel in panels)
        {
            foreach (var target in panel!["targets"]!.AsArray()) RequireKnown((string)target!["expr"]!, (string)panel["title"]!);
        }
    }

    [GeneratedRegex("rovett_[a-z_]+")]
    private static partial Regex Names();

    [GeneratedRegex(@"\| `(rovett_[a-z_]+)` \|")]
    private static partial Regex Known();
}
