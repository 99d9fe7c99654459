using System.Text.Json;
using Shouldly;
using Xunit;
using static Rovett.Core.Tests.Rules.RulesFixture;

namespace Rovett.Core.Tests.Rules;

public class RuleTextTests
{
    static string Title(string template, string data = "{}", params (string, string)[] attributes) =>
        Make(Rule("", $"title: {JsonSerializer.Serialize(template)}"), Event(data, attributes: attributes))[0]
            .GetProperty("title").GetString()!;

    static string? TitleFault(string template, string data = "{}") =>
        Failure(Rule("", $"title: {JsonSerializer.Serialize(template)}"), Event(data));

    [Theory]
    [InlineData("{{ data.vessel.name }}: {{ data.check }} due", "Turnstone: bow thruster due")]
    [InlineData("{{ data.price }} / {{ data.big }}", "1.50 / 1E3")]
    [InlineData("{{ type }} from {{ source }}", "engine.check.due from /planning/1")]
    [InlineData("{{ data.tags | join: ', ' }}", "oil, pump")]
    [InlineData("{{ data.tags[1] | upcase }}", "PUMP")]
    [InlineData("{{ data.tags.first }} {{ data.tags | size }}", "oil 2")]
    [InlineData("{{ data.missing | default: 'none' }}", "none")]
    [InlineData("{{ data.none | default: 'none' }}", "none")]
    [InlineData("{% if data.missing %}yes{% else %}no{% endif %}", "no")]
    [InlineData("{% if data.missing > 5 %}yes{% else %}no{% endif %}", "no")]
    [InlineData("{% if data.hours > 49 and data.hours < 51 %}in{% endif %}", "in")]
    [InlineData("{% if data.hours == 50 %}is{% endif %}", "is")]
    [InlineData("{% unless data.done %}open{% endunless %}", "open")]
    [InlineData("{% case data.check %}{% when 'bow thruster' %}bow{% else %}other{% endcase %}", "bow")]
    [InlineData("{% for t in data.tags %}{{ t }}{% unless forloop.last %}, {% endunless %}{% endfor %}", "oil, pump")]
    [InlineData("{{ data.hours | plus: 2 | times: 2 }}", "104")]
    [InlineData("{{ data.due | date: '%H:%M' }}", "07:45")]
    [InlineData("{{ data.due | date: '%3N %-d.' }}", "000 28.")]
    [InlineData("{{ 'now' | date: '%Y-%m-%d' }}", "2026-11-28")]
    [InlineData("<b>{{ data.html }}</b>", "<b><i>x</i></b>")]
    [InlineData("{{ data.lines }}", "a b")]
    public void Templates_fill_in_the_event(string template, string expected) =>
        Title(template, """
            {"vessel":{"name":"Turnstone"},"check":"bow thruster","price":1.50,"big":1E3,"tags":["oil","pump"],"none":null,"hours":50,
            "done":false,"due":"2026-11-28T07:45:00Z","html":"<i>x</i>","lines":"a\nb"}
            """).ShouldBe(expected);

    [Theory]
    [InlineData("{{ data.vessel.name }}", "title: data.vessel is missing or null")]
    [InlineData("{{ data.none | date: '%H' }}", "title: data.none is missing or null")]
    [InlineData("{{ data.text | date: '%H' }}", "title: the filter 'date' needs a time")]
    [InlineData("{{ 'now' | date: '%:99999999999M' }}", "title: the filter 'date' takes widths of one digit")]
    [InlineData("{{ 'now' | date: '%-_^12Y' }}", "title: the filter 'date' takes widths of one digit")]
    [InlineData("{{ data.none }}", "title: data.none is missing or null")]
    [InlineData("{{ data.none | upcase }}", "title: data.none is missing or null")]
    [InlineData("{{ data.text | append: data.none }}", "title: data.none is missing or null")]
    [InlineData("{% for x in data.missing %}{{ x }}{% endfor %}", "title: data.missing is missing or null")]
    [InlineData("{{ actor }}", "title: actor is missing or null")]
    [InlineData("{% case data.state %}{% when 'open' %}a{% else %}b{% endcase %}", "title: data.state is missing or null")]
    [InlineData("{{ data.object }}", "title: data.object is an object")]
    [InlineData("{{ data.list }}", "title: a list cannot be printed")]
    [InlineData("{{ data.text | plus: 1 }}", "title: the filter 'plus' needs a number")]
    [InlineData("{{ data.object | upcase }}", "title: the filter 'upcase' needs a text")]
    [InlineData("{{ 5 | divided_by: 0 }}", "title: the filter 'divided_by' fails")]
    public void A_template_without_its_value_fails_and_says_which(string template, string expected) =>
        TitleFault(template, """{"none":null,"text":"x","object":{"a":1},"list":[1]}""").ShouldNotBeNull().ShouldStartWith(expected);

    [Theory]
    [InlineData("{% assign x = 1 %}", "not a valid template")]
    [InlineData("{% include 'a' %}", "not a valid template")]
    [InlineData("{% raw %}{{ x }}{% endraw %}", "not a valid template")]
    [InlineData("{% macro a() %}{% endmacro %}", "not a valid template")]
    [InlineData("{% for i in (1..10) %}{% endfor %}", "uses a range")]
    [InlineData("{{ x", "not a valid template")]
    [InlineData("{{ x | upcas }}", "did you mean 'upcase'")]
    [InlineData("{{ x | raw }}", "unknown filter 'raw'")]
    [InlineData("{% if x %}", "not a valid template")]
    public void What_templates_may_not_use_is_refused(string template, string expected) =>
        Mistakes(Rule("", $"title: {JsonSerializer.Serialize(template)}")).ShouldHaveSingleItem().Detail.ShouldContain(expected);

    [Theory]
    [InlineData("{% for a in data.many %}{% for b in data.many %}{% for c in data.many %}{% endfor %}{% endfor %}{% endfor %}")]
    [InlineData("{% for a in data.many %}{{ data.long }}{% endfor %}")]
    [InlineData("{{ data.long | replace: 'a', data.long }}")]
    [InlineData("{{ data.long | append: data.long | append: data.long | append: data.long | append: data.long }}")]
    [InlineData("{{ data.many | join: data.long }}")]
    [InlineData("{% for a in data.many %}{% if data.long contains 'b' %}x{% endif %}{% for b in data.many %}{{ data.long | upcase | " +
    "truncate: 0 }}{% endfor %}{% endfor %}")]
    public void A_template_that_grows_is_stopped(string template)
    {
        var data = $$"""{"many":[{{string.Join(',', Enumerable.Range(0, 500))}}],"long":"{{new string('a', 9000)}}"}""";
        long before = GC.GetAllocatedBytesForCurrentThread();

        TitleFault(template, data).ShouldNotBeNull().ShouldMatch("too many steps|longer than 16384");

        (GC.GetAllocatedBytesForCurrentThread() - before).ShouldBeLessThan(64 << 20);
    }

    [Fact]
    public void A_value_in_the_data_keeps_its_type()
    {
        var made = Make(Rule("", """
            title: t
            data:
              id: "{{ data.id }}"
              text: "no {{ data.id }}"
              all: "{{ data.object }}"
              list: ["{{ data.list }}", 1.50, true, null, "on"]
              next: "{{ data.id | plus: 1 }}"
            """), Event("""{"id":91.0,"object":{"a":[null]},"list":[1,"x"]}"""))[0].GetProperty("data").GetRawText();

        made.ShouldBe("""{"id":91.0,"text":"no 91.0","all":{"a":[null]},"list":[[1,"x"],1.50,true,null,"on"],"next":92.0}""");
    }

    [Theory]
    [InlineData("/vessels/{{ data.id }}/checks", "a b/../ü?#", "/vessels/a%20b%2F..%2F%C3%BC%3F%23/checks")]
    [InlineData("https://ferries.example/{{ data.id }}", "x", "https://ferries.example/x")]
    public void What_is_filled_into_a_link_is_one_part(string link, string id, string expected) =>
        Make(Rule("", $"title: t\nlink: \"{link}\""), Event(JsonSerializer.Serialize(new { id })))[0].GetProperty("link").GetString()
            .ShouldBe(expected);

    [Theory]
    [InlineData("..", "would lead elsewhere")]
    [InlineData(".", "would lead elsewhere")]
    [InlineData("", "is empty")]
    public void A_part_of_a_link_cannot_lead_elsewhere(string id, string expected) =>
        Failure(Rule("", "title: t\nlink: \"/vessels/{{ data.id }}\""), Event(JsonSerializer.Serialize(new { id })))
            .ShouldNotBeNull().ShouldContain(expected);

    [Theory]
    [InlineData("{{ data.url }}")]
    [InlineData("//{{ data.host }}/x")]
    [InlineData("https://{{ data.host }}/x")]
    [InlineData("https://ferries.example{{ data.rest }}")]
    [InlineData("javascript:{{ data.x }}")]
    public void A_link_begins_literally(string link) =>
        Mistakes(Rule("", $"title: t\nlink: \"{link}\"")).ShouldHaveSingleItem().Detail.ShouldContain("must begin literally");

    [Theory]
    [InlineData("https://ferries.example/a?b=c", null)]
    [InlineData("https://ferries.example.evil/a", "not one of the rule's hosts")]
    [InlineData("https://ferries.example@evil/a", "not one of the rule's hosts")]
    [InlineData("https://x@ferries.example/a", "not one of the rule's hosts")]
    [InlineData("javascript:alert(1)", "not an http(s) address")]
    [InlineData("/a", "not an http(s) address")]
    public void A_whole_link_leads_to_a_host_of_the_rule(string url, string? fault)
    {
        var yaml = Rule("", "title: t\nlink: { from: data:/url, hosts: [ferries.example] }");
        var found = Event(JsonSerializer.Serialize(new { url }));
        if (fault is null) Make(yaml, found)[0].GetProperty("link").GetString().ShouldBe(url);
        else Failure(yaml, found).ShouldNotBeNull().ShouldContain(fault);
    }

    [Fact]
    public void A_long_title_is_cut()
    {
        var title = Title("{{ data.long }}", $$"""{"long":"{{new string('x', 300)}}"}""");

        (title.Length, title[^1]).ShouldBe((256, '…'));
    }

    [Fact]
    public void Templates_are_parsed_when_first_needed_and_the_zone_is_the_spaces()
    {
        var zone = TimeZoneInfo.FindSystemTimeZoneById("Europe/Berlin");
        var rules = Read(Rule("", "title: \"{{ data.due | date: '%H:%M' }}\""));

        var made = rules.Apply(Event("""{"due":"2026-11-28T07:45:00Z"}"""), Setting with { Zone = zone })[0].Drafts[0];

        JsonElement.Parse(made.Body).GetProperty("title").GetString().ShouldBe("08:45");
    }
}
