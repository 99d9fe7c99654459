using System.Text;
using System.Text.Json;
using Rovett.Core.Events;
using Rovett.Core.Notifications;
using Rovett.Core.Rules;
using Rovett.Core.Yaml;
using Shouldly;

namespace Rovett.Core.Tests.Rules;

/// <summary>Rules and events for tests, as short texts.</summary>
static class RulesFixture
{
    public static readonly RuleSetting Setting = new(new DateTimeOffset(2026, 11, 28, 6, 30, 0, TimeSpan.Zero), TimeZoneInfo.Utc,
        _ => new TypeTerms(ReceiptLevel.Totals));

    public static RuleSet Read(string yaml)
    {
        var mistakes = new List<RuleMistake>();
        var rules = RuleReader.Read(Encoding.UTF8.GetBytes(yaml), mistakes);
        mistakes.ShouldBeEmpty(string.Join("\n", mistakes));
        return rules;
    }

    public static IReadOnlyList<RuleMistake> Mistakes(string yaml)
    {
        var mistakes = new List<RuleMistake>();
        RuleReader.Read(Encoding.UTF8.GetBytes(yaml), mistakes);
        return mistakes;
    }

    public static IncomingEvent Event(string data = "{}", string type = "engine.check.due", string source = "/planning/1",
        params (string Name, string Value)[] attributes)
    {
        var all = new Dictionary<string, string> { ["specversion"] = "1.0", ["id"] = "e1", ["source"] = source, ["type"] = type };
        foreach (var (name, value) in attributes) all[name] = value;
        return new IncomingEvent(all, data.Length == 0 ? null : JsonElement.Parse(data));
    }

    /// <summary>One rule with the least it needs, and more.</summary>
    public static string Rule(string more, string notification = "title: t", string to = "[\"role:engineer\"]") => $$"""
        rules:
          - name: r
            event: engine.check.due
            to: {{to}}
            {{more.Replace("\n", "\n    ")}}
            notification:
              {{notification.Replace("\n", "\n      ")}}
        """;

    /// <summary>The finished notifications of an event, as JSON.</summary>
    public static List<JsonElement> Make(string yaml, IncomingEvent found) => [.. Read(yaml).Apply(found, Setting)
        .SelectMany(r => r.Failure is { } failure ? throw new InvalidOperationException(failure) : r.Drafts)
        .Select(d => JsonElement.Parse(d.Body))];

    /// <summary>Why the one rule makes nothing.</summary>
    public static string? Failure(string yaml, IncomingEvent found) => Read(yaml).Apply(found, Setting).Single().Failure;
}
