using System.Text.Json;
using Shouldly;
using Xunit;
using static Rovett.Core.Tests.Rules.RulesFixture;

namespace Rovett.Core.Tests.Rules;

public class RuleRecipientTests
{
    static string[] Tos(string to, string data, string more = "", params (string, string)[] attributes) =>
        [.. Make(Rule(more, to: to), Event(data, attributes: attributes)).Select(b => b.GetProperty("to").GetRawText())];

    [Fact]
    public void Each_item_gets_a_notification_of_its_own_and_equal_addresses_one() =>
        Tos("{ each: data:/crew, address: \"user:{{ item.id }}\" }", """{"crew":[{"id":"mara"},{"id":"teo"},{"id":"mara"}]}""")
            .ShouldBe(["""["user:mara"]""", """["user:teo"]"""]);

    [Fact]
    public void All_items_get_one_together() =>
        Tos("{ all: data:/crew, address: \"user:{{ item }}\" }", """{"crew":["mara","teo","mara"]}""")
            .ShouldBe(["""["user:mara","user:teo"]"""]);

    [Fact]
    public void Nobody_means_nothing_is_sent()
    {
        Tos("{ each: data:/crew, address: \"user:{{ item }}\" }", """{"crew":[]}""").ShouldBeEmpty();
        Tos("{ all: data:/crew, address: \"user:{{ item }}\" }", """{"crew":[]}""").ShouldBeEmpty();
    }

    [Fact]
    public void Nobody_is_told_of_their_own_doings()
    {
        Tos("[\"user:{{ data.assignee }}\"]", """{"assignee":"mara"}""", "except: [\"user:{{ actor }}\"]", ("actor", "mara"))
            .ShouldBeEmpty();
        Tos("[\"user:{{ data.assignee }}\"]", """{"assignee":"mara"}""", "except: [\"user:{{ actor }}\"]", ("actor", "teo"))
            .ShouldBe(["""["user:mara"]"""]);
        Make(Rule("except: [\"user:{{ actor }}\"]"), Event())[0].TryGetProperty("except", out _).ShouldBeFalse();
        Make(Rule("except: [\"user:{{ actor }}\"]"), Event(attributes: ("actor", "teo")))[0].GetProperty("except").GetRawText()
            .ShouldBe("""["user:teo"]""");
    }

    [Theory]
    [InlineData("", "is empty")]
    [InlineData("..", "would lead elsewhere")]
    [InlineData("a/b", "contains '/'")]
    [InlineData("a\u202Eb", "")]
    [InlineData("a\nrole:engineer", "")]
    public void An_address_that_cannot_be_one_fails(string id, string expected) =>
        Failure(Rule("", to: "[\"user:{{ data.id }}\"]"), Event(JsonSerializer.Serialize(new { id }))).ShouldNotBeNull()
        .ShouldContain(expected);

    [Theory]
    [InlineData("[\"{{ data.to }}\"]", "must begin with its kind")]
    [InlineData("[\"{{ data.kind }}:mara\"]", "must begin with its kind")]
    [InlineData("[]", "is empty")]
    [InlineData("[\"crew\"]", "")]
    [InlineData("{ each: data:/crew }", "is missing; say how an item becomes an address")]
    [InlineData("{ each: data.crew, address: \"user:{{ item }}\" }", "must begin with 'data:'")]
    [InlineData("{ each: data:/a, all: data:/b, address: \"user:{{ item }}\" }", "needs either 'each'")]
    public void A_rule_that_cannot_name_anybody_is_refused(string to, string expected) =>
        Mistakes(Rule("", to: to)).ShouldHaveSingleItem().Detail.ShouldContain(expected);

    [Fact]
    public void Missing_lists_and_too_many_items_fail()
    {
        const string to = "{ each: data:/crew, address: \"user:{{ item }}\" }";
        Failure(Rule("", to: to), Event()).ShouldBe("to: data:/crew is missing; the event needs a list there");
        Failure(Rule("", to: to), Event("""{"crew":"mara"}""")).ShouldBe("to: data:/crew is not a list");
        Failure(Rule("", to: to), Event($$"""{"crew":[{{string.Join(',', Enumerable.Range(0, 1001))}}]}"""))
            .ShouldBe("to: data:/crew has 1001 items; the limit is 1000");
    }

    [Fact]
    public void An_event_makes_at_most_a_thousand_notifications()
    {
        var rules = Read("""
            rules:
              - { name: a, event: x, to: { each: data:/l, address: "user:{{ item }}" }, notification: { title: t } }
              - { name: b, event: x, to: { each: data:/l, address: "user:{{ item }}" }, notification: { title: t } }
            """);
        var results = rules.Apply(Event($$"""{"l":[{{string.Join(',', Enumerable.Range(0, 600))}}]}""", type: "x"), Setting);

        results.Select(r => r.Failure).ShouldAllBe(f => f == "the event makes 1200 notifications; the limit is 1000");
    }

    [Fact]
    public void A_gathering_rule_makes_its_draft_for_any_count()
    {
        var draft = Read(Rule("gather: { within: 10m, title: \"{{ count }} changes to {{ data.sailing }}\" }",
            "title: \"{{ data.sailing }} is late\"")).Apply(Event("""{"sailing":"07:40"}"""), Setting)[0].Drafts[0];

        JsonElement.Parse(draft.Body).GetProperty("title").GetString().ShouldBe("07:40 is late");
        JsonElement.Parse(draft.ForCount!(3).Body).GetProperty("title").GetString().ShouldBe("3 changes to 07:40");
    }
}
