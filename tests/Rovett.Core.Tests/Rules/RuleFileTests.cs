using Rovett.Core.Events;
using Rovett.Core.Rules;
using Shouldly;
using Xunit;
using static Rovett.Core.Tests.Rules.RulesFixture;

namespace Rovett.Core.Tests.Rules;

public class RuleFileTests
{
    [Theory]
    [InlineData("rules: [", 2, "not YAML")]
    [InlineData("", 1, "is empty")]
    [InlineData("rules:\n  - &a { name: x }\n", 2, "has an anchor")]
    [InlineData("rules: *a", 1, "is an alias")]
    [InlineData("rules: !!seq []", 1, "has the tag")]
    [InlineData("rules: []\nrules: []\n", 2, "is there twice")]
    [InlineData("rules: []\n---\nrules: []\n", 2, "starts a second document")]
    [InlineData("rule: []\nrules: []", 1, "did you mean 'rules'?")]
    [InlineData("rules:\n  - name: x\n    event: {{ data.type }}\n", 3, "is a template without quotes")]
    [InlineData("- a", 1, "must be a mapping")]
    public void A_file_that_cannot_be_one_is_told_where(string yaml, int line, string detail)
    {
        var mistake = Mistakes(yaml)[0];

        (mistake.Line, mistake.Detail).ShouldBe((line, mistake.Detail));
        mistake.Detail.ShouldContain(detail);
    }

    [Theory]
    [InlineData("wen: { source: x }", "rules[0].wen", "did you mean 'when'?")]
    [InlineData("when: { data.hours: 5 }", "rules[0].when.data.hours", "write data:/hours")]
    [InlineData("when: { data:hours: 5 }", "rules[0].when.data:hours", "data:/hours")]
    [InlineData("when: { data:/hours: { atleast: 5 } }", "rules[0].when.data:/hours.atleast", "did you mean 'atLeast'?")]
    [InlineData("when: { data:/hours: { atLeast: 5, atMost: 4 } }", "rules[0].when.data:/hours", "can never match")]
    [InlineData("when: { data:/hours: [] }", "rules[0].when.data:/hours", "can never match")]
    [InlineData("when: { data:/hours: { exists: false, atLeast: 1 } }", "rules[0].when.data:/hours", "can never match")]
    [InlineData("when: { data:/hours: { atLeast: high } }", "rules[0].when.data:/hours.atLeast", "must be a number")]
    [InlineData("gather: { within: 10 }", "rules[0].gather.within", "must be a duration")]
    [InlineData("gather: { within: 10m, first: later }", "rules[0].gather.first", "can only be now")]
    [InlineData("except: [\"topic:berth/3\"]", "rules[0].except[0]", "can't be a topic")]
    [InlineData("except: [\"user:{{ item.id }}\"]", "rules[0].except", "uses 'item'")]
    public void A_mistake_in_a_rule_names_the_field_and_the_fix(string more, string field, string detail)
    {
        var mistake = Mistakes(Rule(more)).ShouldHaveSingleItem();

        mistake.Field.ShouldBe(field);
        mistake.Detail.ShouldContain(detail);
        mistake.Line.ShouldBe(5);
    }

    [Theory]
    [InlineData("titel: t", "titel", "did you mean 'title'?")]
    [InlineData("title: t\nurgency: loud", "urgency", "must be one of")]
    [InlineData("title: t\nttl: soon", "ttl", "or a duration such as")]
    [InlineData("title: t\nurgency: \"{{ data.u }}\"", "urgency", "cannot be filled in")]
    [InlineData("title: t\nto: [\"user:mara\"]", "to", "write 'to' beside 'notification'")]
    [InlineData("title: t\ndeadlines: [{ by: red, within: 1m }]", "deadlines[0].by", "must be read, received")]
    [InlineData("title: t\ndeadlines: [{ by: read, within: 1m, otherwise: { to: [\"user:{{ data.m\"], title: x } }]",
        "deadlines[0].otherwise.to[0]", "not a valid template")]
    [InlineData("title: t\nlink: { from: data:/url, hosts: [\"a/b\"] }", "link.hosts", "is not a host")]
    public void A_mistake_in_a_notification_names_its_place(string notification, string field, string detail)
    {
        var mistakes = Mistakes(Rule("", notification));

        mistakes.Select(m => m.Field).ShouldContain("rules[0].notification." + field);
        mistakes.First(m => m.Field.EndsWith(field, StringComparison.Ordinal)).Detail.ShouldContain(detail);
    }

    [Fact]
    public void Every_mistake_is_told_at_once()
    {
        var mistakes = Mistakes("""
            rules:
              - name: a
                event: x
                to: [nobody]
                notification: { titel: t }
              - name: a
                event: "x*y"
                to: [everyone]
                notification: { title: t }
            """);

        mistakes.Select(m => m.Line).ShouldBe([4, 6, 7]);
    }

    [Fact]
    public void Yaml_is_version_1_2_so_on_and_yes_are_texts()
    {
        var rules = Read(Rule("when: { state: [on, yes, off], data:/n: [1e2, 007] }"));

        rules.All[0].When[0].OneOf!.ShouldAllBe(c => c.Flag == null && c.Number == null);
        rules.All[0].When[1].OneOf!.Select(c => c.Number).ShouldBe([100, 7]);
    }

    [Fact]
    public void Json_is_read_too() => Read("""
        {"rules":[{"name":"r","event":"x","to":["user:mara"],"notification":{"title":"{{ data.a }}","data":{"n":1.50}}}]}
        """).All.Count.ShouldBe(1);

    [Fact]
    public void Durations_are_written_either_way()
    {
        var made = Make(Rule("", """
            title: t
            ttl: 2h
            takeable: 30m
            deadlines: [{ by: taken, within: PT15M, otherwise: { to: ["role:duty-manager"], type: late, title: "{{ data.x }} is open" } }]
            """), Event("""{"x":"Check"}"""))[0];

        made.GetProperty("deadlines")[0].GetProperty("otherwise").GetProperty("title").GetString().ShouldBe("Check is open");
    }

    [Fact]
    public void Files_are_bounded_in_size_and_depth()
    {
        Mistakes(new string('#', (1 << 20) + 1))[0].Detail.ShouldContain("the limit is");
        Mistakes("rules: " + new string('[', 200) + new string(']', 200))[0].Detail.ShouldContain("nested deeper than 32");
        Mistakes("rules:\n" + string.Concat(Enumerable.Range(0, 1001).Select(i => $"  - {{ name: r{i} }}\n")))[0].Detail
            .ShouldContain("the limit is 1000");
    }

    [Fact]
    public void Tests_beside_the_rules_pass_or_say_what_differs()
    {
        const string rule = """
            rules:
              - name: Engine check due
                event: engine.check.due
                when: { data:/priority: high }
                to: ["role:engineer"]
                notification: { title: "{{ data.vessel }}: check due" }
            tests:
              - given: { type: engine.check.due, source: /planning/1, data: { priority: high, vessel: Turnstone } }
                expect: [{ rule: Engine check due, to: ["role:engineer"], title: "Turnstone: check due" }]
              - given: { type: engine.check.due, source: /planning/1, data: { priority: low } }
                expect: []

            """;
        var good = Read(rule);
        good.Tests.SelectMany(t => t.Run(good, Setting)).ShouldBeEmpty();
        RuleReader.Untested(good).ShouldBeEmpty();

        var bad = Read(rule + """
              - given: { type: engine.check.due, source: /planning/1, data: { priority: low, vessel: Turnstone } }
                expect: [{ rule: Engine check due }]
              - given: { type: engine.check.due, source: /planning/1, data: { priority: high, vessel: Turnstone } }
                expect: [{ rule: Engine check due, title: other, link: /x }]
              - given: { type: engine.check.due, source: /planning/1, data: { priority: high, vessel: Turnstone } }
                expect: []
              - given: { type: engine.check.due, source: /planning/1, data: { priority: high } }
                expect: []
            """);
        bad.Tests.Skip(2).SelectMany(t => t.Run(bad, Setting)).ShouldBe([
            "expect[0] is not made: rule 'Engine check due' does not match, because data:/priority is \"low\"; must be high",
            "expect[0].title is \"Turnstone: check due\", not \"other\"",
            "expect[0].link is absent, not \"/x\"",
            "makes one notification more than expected: rule 'Engine check due', to [\"role:engineer\"], \"Turnstone: check due\"",
            "rule 'Engine check due' fails: title: data.vessel is missing or null; add it to the event, or give a default "
                + "({{ … | default: \"…\" }})",
        ]);
    }

    [Fact]
    public void Content_decides_whether_an_event_is_the_same_and_its_trace_does_not()
    {
        Event("""{"a":1}""", attributes: ("traceparent", "00-1")).Hash.ShouldBe(Event("""{ "a": 1 }""").Hash);
        Event("""{"a":1}""").Hash.ShouldNotBe(Event("""{"a":2}""").Hash);
        var found = Event("""{"a":[1.50,"é"]}""", attributes: ("traceparent", "00-1"));
        IncomingEvent.Parse(found.Bytes).Bytes.ShouldBe(found.Bytes);
    }
}
