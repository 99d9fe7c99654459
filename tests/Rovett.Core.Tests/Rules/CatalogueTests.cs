using System.Text;
using System.Text.Json;
using Rovett.Core.Catalogues;
using Rovett.Core.Notifications;
using Rovett.Core.Rules;
using Rovett.Core.Yaml;
using Shouldly;
using Xunit;

namespace Rovett.Core.Tests.Rules;

/// <summary>The catalogue of types: what it accepts, what it refuses, and how it checks data.</summary>
public sealed class CatalogueTests
{
    const string Checks = """
        types:
          engine.check.due:
            name: { en: Engine checks, de: Maschinenprüfungen }
            urgency: high
            always: true
            receipts: full
            carry: summary
            data: { type: object, properties: { checkId: { type: integer } } }
          weather.warning: { name: Weather warnings }
        events:
          engine.check.due:
            data:
              type: object
              required: [vessel, hours]
              additionalProperties: false
              properties:
                vessel: { $ref: "#/$defs/vessel" }
                check: { type: string, maxLength: 10 }
                hours: { type: number, minimum: 0 }
                priority: { enum: [low, high] }
                code: { type: string, pattern: "^[A-Z]{2}-[0-9]+$" }
                state: { const: open }
                when: { type: string, format: date-time }
                crew: { type: array, maxItems: 2, items: { type: string } }
              $defs:
                vessel: { type: object, required: [id], properties: { id: { type: string }, name: { type: string } } }
        """;

    static Catalogue Read(string yaml)
    {
        var mistakes = new List<RuleMistake>();
        var catalogue = CatalogueReader.Read(Encoding.UTF8.GetBytes(yaml), mistakes);
        mistakes.ShouldBeEmpty();
        return catalogue;
    }

    static List<RuleMistake> MistakesIn(string yaml)
    {
        var mistakes = new List<RuleMistake>();
        CatalogueReader.Read(Encoding.UTF8.GetBytes(yaml), mistakes);
        return mistakes;
    }

    [Fact]
    public void A_type_has_names_by_language_and_what_holds_for_it()
    {
        var type = Read(Checks).Find("engine.check.due")!;
        (type.NameIn(["de-CH"]), type.NameIn(["fr", "DE"]), type.NameIn(["fr"]), type.NameIn([]))
            .ShouldBe(("Maschinenprüfungen", "Maschinenprüfungen", "Engine checks", "Engine checks"));
        var terms = Read(Checks).TermsOf("engine.check.due", _ => ReceiptLevel.None, isStrict: true);
        (terms.Urgency, terms.IsAlways, terms.Receipts, terms.Carry, terms.Refusal).ShouldBe(
            ("high", true, ReceiptLevel.Full, Carry.Summary, null));
        Read(Checks).Find("weather.warning")!.NameIn(["de"]).ShouldBe("Weather warnings");
        var other = Read(Checks).TermsOf("engine.check.dve", _ => ReceiptLevel.None, isStrict: true);
        (other.Receipts, other.Refusal!.EndsWith("did you mean 'engine.check.due'?", StringComparison.Ordinal)).ShouldBe(
            (ReceiptLevel.None, true));
        Read(Checks).TermsOf("other", _ => ReceiptLevel.None, isStrict: false).Refusal.ShouldBeNull();
    }

    [Theory]
    [InlineData("""{"vessel":{"id":"turnstone"},"hours":52}""", "")]
    [InlineData("""{"vessel":{"id":"turnstone"},"hours":52,"code":"AB-12","state":"open","crew":["a","b"],"priority":"high","when":"2026-11-28T10:00:00Z"}""", "")]
    [InlineData("""{"hours":52}""", "data.vessel is missing")]
    [InlineData("""{"vessel":{},"hours":52}""", "data.vessel.id is missing")]
    [InlineData("""{"vessel":{"id":1},"hours":52}""", "data.vessel.id must be a text")]
    [InlineData("""{"vessel":{"id":"t"},"hours":-1}""", "data.hours must be at least 0")]
    [InlineData("""{"vessel":{"id":"t"},"hours":99999999999999999999915}""",
        "data.hours is a whole number beyond -9223372036854775808 to 9223372036854775807; write it as a text")]
    [InlineData("""{"vessel":{"id":"t"},"hours":1e300}""",
        "data.hours is a number that no schema can check: its digits go beyond 10^28")]
    [InlineData("""{"vessel":{"id":"t"},"hours":"52"}""", "data.hours must be a number")]
    [InlineData("""{"vessel":{"id":"t"},"hours":1,"crew":["a","b","c"]}""", "data.crew must have at most 2 items")]
    [InlineData("""{"vessel":{"id":"t"},"hours":1,"crew":["a",2]}""", "data.crew[1] must be a text")]
    [InlineData("""{"vessel":{"id":"t"},"hours":1,"check":"bow thrusters"}""", "data.check must have at most 10 characters")]
    [InlineData("""{"vessel":{"id":"t"},"hours":1,"priority":"urgent"}""", "data.priority must be one of low, high")]
    [InlineData("""{"vessel":{"id":"t"},"hours":1,"code":"ab-1"}""", "data.code must match ^[A-Z]{2}-[0-9]+$")]
    [InlineData("""{"vessel":{"id":"t"},"hours":1,"state":"closed"}""", "data.state must be one of open")]
    [InlineData("""{"vessel":{"id":"t"},"hours":1,"colour":"red"}""", "data.colour is not in the schema of this type")]
    [InlineData("[]", "data must be an object; data.vessel is missing; data.hours is missing")]
    public void Data_must_be_as_the_schema_says(string json, string expected)
    {
        using var document = JsonDocument.Parse(json);
        string.Join("; ", Read(Checks).MistakesIn("engine.check.due", document.RootElement, isStrict: true)
            .Select(e => $"{e.Field} {e.Detail}")).ShouldBe(expected);
    }

    [Fact]
    public void Missing_data_is_told_and_unknown_events_are_refused_only_where_that_is_wanted()
    {
        Read(Checks).MistakesIn("engine.check.due", null, isStrict: false).ShouldHaveSingleItem().Field.ShouldBe("data");
        Read(Checks).MistakesIn("other", null, isStrict: false).ShouldBeEmpty();
        Read(Checks).MistakesIn("other", null, isStrict: true).ShouldHaveSingleItem().Field.ShouldBe("type");
    }

    [Theory]
    [InlineData("types: []", "types", 1)]
    [InlineData("types: { a: { nome: x } }", "types.a.nome", 1)]
    [InlineData("types: { a: { name: { englisch_: x } } }", "types.a.name.englisch_", 1)]
    [InlineData("types: { a: { urgency: urgent } }", "types.a.urgency", 1)]
    [InlineData("types: { a: { always: yes } }", "types.a.always", 1)]
    [InlineData("types: { a: { carry: none } }", "types.a.carry", 1)]
    [InlineData("types: { engine.*: { name: x } }", "types.engine.*", 1)]
    [InlineData("events:\n  a:\n    data: { type: strin }", "events.a.data.type", 3)]
    [InlineData("events:\n  a:\n    data: { typ: string }", "events.a.data.typ", 3)]
    [InlineData("events:\n  a:\n    data: { $ref: \"https://elsewhere.example/schema\" }", "events.a.data.$ref", 3)]
    [InlineData("events:\n  a:\n    data: { $ref: \"#/$defs/nothing\" }", "events.a.data.$ref", 3)]
    [InlineData("events:\n  a:\n    data: { pattern: \"(a+)\\\\1\" }", "events.a.data.pattern", 3)]
    [InlineData("events:\n  a:\n    data: { pattern: \"^(?=x)\" }", "events.a.data.pattern", 3)]
    [InlineData("events:\n  a:\n    data: { patternProperties: { x: {} } }", "events.a.data.patternProperties", 3)]
    [InlineData("events:\n  a:\n    data: { minimum: low }", "events.a.data.minimum", 3)]
    [InlineData("events:\n  a:\n    data: { required: vessel }", "events.a.data.required", 3)]
    [InlineData("events:\n  a:\n    data: { maxLength: -1 }", "events.a.data.maxLength", 3)]
    [InlineData("events:\n  a:\n    data: { items: 3 }", "events.a.data.items", 3)]
    [InlineData("events:\n  a:\n    data: { $ref: \"#\" }", "events.a.data.$ref", 3)]
    [InlineData("events:\n  a:\n    data: { $ref: \"#/$defs/b\", $defs: { b: { allOf: [{ $ref: \"#/$defs/b\" }] } } }", "events.a.data", 3)]
    [InlineData("types: { a: {}, a: {} }", "a", 1)]
    [InlineData("colour: red", "(file)", 1)]
    public void A_mistake_is_named_with_its_line(string yaml, string field, int line) =>
        MistakesIn(yaml).Select(m => (m.Field, m.Line)).ShouldContain((field, line));

    [Fact]
    public void A_schema_that_takes_long_elsewhere_takes_no_time_here()
    {
        var catalogue = Read("events: { a: { data: { type: string, pattern: \"^(a+)+$\" } } }");
        using var document = JsonDocument.Parse($"\"{new string('a', 60_000)}!\"");
        catalogue.MistakesIn("a", document.RootElement, isStrict: false).ShouldHaveSingleItem();
    }

    [Fact]
    public void A_schema_that_multiplies_itself_is_refused()
    {
        var defs = string.Join(", ", Enumerable.Range(1, 30).Select(i => i == 30 ? "d30: { type: string }"
            : $"d{i}: {{ anyOf: [{{ $ref: \"#/$defs/d{i + 1}\" }}, {{ $ref: \"#/$defs/d{i + 1}\" }}] }}"));
        MistakesIn($"events: {{ a: {{ data: {{ $ref: \"#/$defs/d1\", $defs: {{ {defs} }} }} }} }}")
            .ShouldHaveSingleItem().Detail.ShouldStartWith("comes to more than 1000 parts");
    }

    [Theory]
    [InlineData("title: \"{{ data.vesel.name }}\"", "rules[0].notification.title", "did you mean 'vessel'?")]
    [InlineData("title: \"{{ data.vessel.nam }}\"", "rules[0].notification.title", "did you mean 'name'?")]
    [InlineData("{ title: T, data: { id: \"{{ data.chek | default: '' }}\" } }", "rules[0].notification.data.id", "did you mean 'check'?")]
    [InlineData("{ title: T, body: \"{% for c in data.crews %}{{ c }}{% endfor %}\" }", "rules[0].notification.body",
    "did you mean 'crew'?")]
    public void A_rule_can_use_only_what_the_event_has(string notification, string field, string detail)
    {
        var yaml = $"""
            rules:
              - name: R
                event: engine.check.due
                to: ["role:engineer"]
                notification: {(notification.StartsWith('{') ? notification : "{ " + notification + " }")}
            """;
        var mistakes = new List<RuleMistake>();
        RuleReader.Read(Encoding.UTF8.GetBytes(yaml), mistakes, Read(Checks));
        var only = mistakes.ShouldHaveSingleItem();
        (only.Field, only.Detail.EndsWith(detail, StringComparison.Ordinal)).ShouldBe((field, true), only.Detail);
    }

    [Fact]
    public void Conditions_lists_and_tests_are_held_against_the_schema_beside_the_rules()
    {
        var mistakes = new List<RuleMistake>();
        RuleReader.Read(Encoding.UTF8.GetBytes(Checks + "\n" + """
            rules:
              - name: R
                event: engine.check.due
                when: { data:/ours: { atLeast: 5 } }
                to: { each: data:/crews, address: "user:{{ item }}" }
                notification: { title: "{{ data.vessel.name }}" }
            tests:
              - { given: { type: engine.check.due, source: /x, data: { hours: 1 } }, expect: [] }
            """), mistakes);
        mistakes.Select(m => m.Field).ShouldBe(["rules[0].when.data:/ours", "rules[0].to.each", "tests[0].given.data.vessel"]);
    }
}
