using Rovett.Core.Rules;
using Shouldly;
using Xunit;
using static Rovett.Core.Tests.Rules.RulesFixture;

namespace Rovett.Core.Tests.Rules;

public class RuleMatchingTests
{
    [Theory]
    [InlineData("source: /planning/*", true)]
    [InlineData("source: /planning/1", true)]
    [InlineData("source: /planning", false)]
    [InlineData("data:/priority: [high, urgent]", true)]
    [InlineData("data:/priority: low", false)]
    [InlineData("data:/hours: { atLeast: 50 }", true)]
    [InlineData("data:/hours: { above: 50 }", false)]
    [InlineData("data:/hours: { above: 49.9, below: 50.1 }", true)]
    [InlineData("data:/hours: { atMost: 49 }", false)]
    [InlineData("data:/hours: 50.0", true)]
    [InlineData("data:/hours: \"50\"", false)]
    [InlineData("data:/name: { atLeast: 1 }", false)]
    [InlineData("data:/tags: oil", true)]
    [InlineData("data:/tags: { not: oil }", false)]
    [InlineData("data:/tags: { not: fuel }", true)]
    [InlineData("data:/tags/1: pump", true)]
    [InlineData("data:/tags/01: pump", false)]
    [InlineData("data:/done: false", true)]
    [InlineData("data:/done: \"false\"", false)]
    [InlineData("data:/none: x", false)]
    [InlineData("data:/none: { not: x }", true)]
    [InlineData("data:/none: { exists: false }", true)]
    [InlineData("data:/missing: { exists: false }", true)]
    [InlineData("data:/missing: { exists: true }", false)]
    [InlineData("data:/missing: { not: x }", true)]
    [InlineData("data:/missing: { below: 3 }", false)]
    [InlineData("data:/hours: { exists: true, not: 51 }", true)]
    [InlineData("data:/a~1b: 1", true)]
    [InlineData("severity: { atLeast: 3 }", true)]
    [InlineData("severity: 4", true)]
    [InlineData("severity: \"04\"", false)]
    [InlineData("actor: { exists: false }", true)]
    [InlineData("on: yes", false)]
    public void A_condition_compares_attributes_and_data(string condition, bool matches)
    {
        var found = Event("""{"priority":"high","hours":50,"name":"pump","tags":["oil","pump"],"done":false,"none":null,"a/b":1}""",
            attributes: ("severity", "4"));

        Read(Rule($"when: {{ {condition} }}")).Apply(found, Setting).Count.ShouldBe(matches ? 1 : 0);
    }

    [Fact]
    public void Rules_are_found_by_type_and_by_the_beginning_of_types_in_the_order_written()
    {
        var rules = Read("""
            rules:
              - { name: all, event: "*", to: [everyone], notification: { title: t } }
              - { name: checks, event: [engine.check.*, sailing.*], to: [everyone], notification: { title: t } }
              - { name: due, event: engine.check.due, to: [everyone], notification: { title: t } }
              - { name: other, event: engine.check, to: [everyone], notification: { title: t } }
              - { name: engine, event: engine.*, to: [everyone], notification: { title: t } }
            """);

        rules.For("engine.check.due").Select(r => r.Name).ShouldBe(["all", "checks", "due", "engine"]);
        rules.For("engine").Select(r => r.Name).ShouldBe(["all"]);
        rules.For("sailing.delayed").Select(r => r.Name).ShouldBe(["all", "checks"]);
    }

    [Fact]
    public void Each_matching_rule_makes_its_own_notification()
    {
        var rules = Read("""
            rules:
              - { name: a, event: x, to: ["user:mara"], notification: { title: "first" } }
              - { name: b, event: x, to: ["user:mara"], notification: { title: "second" } }
            """);

        rules.Apply(Event(type: "x"), Setting).SelectMany(r => r.Drafts).Count().ShouldBe(2);
    }

    [Fact]
    public void What_does_not_match_is_explained()
    {
        var rule = Read(Rule("when: { data:/priority: [high, urgent], data:/hours: { atLeast: 50 } }")).All[0];

        rule.WhyNot(Event("""{"priority":"low","hours":50}""")).ShouldBe("data:/priority is \"low\"; must be high or urgent");
        rule.WhyNot(Event("""{"priority":"high"}""")).ShouldBe("data:/hours is missing; must be at least 50");
        rule.WhyNot(Event("""{"priority":"high","hours":50}""")).ShouldBeNull();
    }

    [Theory]
    [InlineData("engine.chek.due", "engine.check.due")]
    [InlineData("engine.check.done", "engine.check.due")]
    [InlineData("sailing.delayed", null)]
    [InlineData("engine.check.due", null)]
    public void An_unmatched_type_is_told_the_nearest_with_a_rule(string type, string? nearest) =>
        Read(Rule("")).Nearest(type).ShouldBe(nearest);

    [Fact]
    public void A_thousand_rules_cost_an_event_little_more_than_ten()
    {
        RuleSet Many(int others) => Read("rules:\n" + string.Join("\n", Enumerable.Range(0, others).Select(i =>
            $"  - {{ name: o{i}, event: other.{i}, to: [everyone], notification: {{ title: t }} }}"))
            + "\n" + string.Join("\n", Enumerable.Range(0, 10).Select(i =>
            $"  - {{ name: r{i}, event: engine.check.due, when: {{ data:/n: {i} }}, to: [everyone], notification: {{ title: t }} }}")));
        var found = Event("""{"n":3}""");
        RuleSet few = Many(0), many = Many(990);
        // The smallest of many single runs: other work that runs beside tests does not reach all of them.
        double Cost(RuleSet rules) => Enumerable.Range(0, 2000).Min(_ =>
        {
            long start = System.Diagnostics.Stopwatch.GetTimestamp();
            rules.Apply(found, Setting);
            return System.Diagnostics.Stopwatch.GetElapsedTime(start).TotalMicroseconds;
        });
        Cost(few);
        Cost(many);

        // Were each of them looked at, it would be a hundred times as much.
        (Cost(many) / Cost(few)).ShouldBeLessThan(5);

        var ofOneType = Read("rules:\n" + string.Join("\n", Enumerable.Range(0, 1000).Select(i =>
            $"  - {{ name: r{i}, event: engine.check.due, when: {{ data:/n: {i} }}, to: [everyone], notification: {{ title: t }} }}")));
        (Cost(ofOneType) / Cost(few)).ShouldBeLessThan(200, "1,000 rules of one type against 10");
    }
}
