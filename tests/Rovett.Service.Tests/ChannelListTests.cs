using Rovett.Testing;
using Shouldly;
using Xunit;

namespace Rovett.Service.Tests;

/// <summary>Roles and topics are listed with who is on them.</summary>
public sealed class ChannelListTests : IAsyncLifetime
{
    ServiceUnderTest s = null!;

    public async ValueTask InitializeAsync() => s = await ServiceUnderTest.Start();
    public ValueTask DisposeAsync() => s.DisposeAsync();

    async Task<string> Listed(string query = "")
    {
        var answer = await s.Get("/v1/channels" + query, s.Key);
        answer.Status.ShouldBe(200, answer.Text);
        return string.Join("; ", answer.Json!["channels"]!.AsArray()
            .Select(c => $"{c!["address"]} {c["members"]} members {c["here"]} here {c["sent"]} sent"));
    }

    [Fact]
    public async Task Members_presence_and_what_was_sent_are_told_for_each()
    {
        foreach (var (user, role) in new[] { ("mara", "engineer"), ("ivo", "engineer"), ("teo", "deckhand") })
            await s.Get("/v1/inbox/totals", s.Token(user, role));
        await s.Send("role:engineer");
        await s.Send("role:engineer");
        await s.Send("everyone");
        (await s.Post("/v1/grants", s.Key, """{"user":"teo","topic":"berth/3","may":["subscribe"]}""")).Status.ShouldBe(201);
        using var mara = await s.WebSocket(s.Token("mara", "engineer"));
        await mara.Next("current");
        using var teo = await s.WebSocket(s.Token("teo", "deckhand"));
        await teo.Next("current");
        await teo.Ask("""{"kind":"subscribe","topic":"berth/3","requestId":"r"}""");

        (await Eventually.Holds(() => Listed(), l => l.Contains("topic:", StringComparison.Ordinal), "the subscription is seen")).ShouldBe(
            "everyone 3 members 2 here 1 sent; role:deckhand 1 members 1 here 0 sent; role:engineer 2 members 1 here 2 sent; " +
            "topic:berth/3 0 members 1 here 0 sent");
        (await Listed("?search=ENGIN")).ShouldBe("role:engineer 2 members 1 here 2 sent");

        var engineers = (await s.Get("/v1/channels?address=role:engineer", s.Key)).Json!;
        string.Join(", ", engineers["people"]!.AsArray().Select(p => $"{p!["user"]} {p["member"]} {p["here"]}"))
            .ShouldBe("ivo true false, mara true true");
        engineers["lastSent"].ShouldNotBeNull();
        var berth = (await s.Get("/v1/channels?address=topic:berth/3", s.Key)).Json!;
        berth["people"]!.AsArray().Select(p => $"{p!["user"]} {p["member"]} {p["here"]}").ShouldBe(["teo false true"]);
    }

    [Fact]
    public async Task Pages_follow_by_address_and_members_by_user()
    {
        for (int i = 0; i < 7; i++) await s.Get("/v1/inbox/totals", s.Token($"user{i}", $"role{i}", "deckhand"));
        var pages = new List<string>();
        for (string? next = "/v1/channels?limit=4"; next is not null;)
        {
            var page = await s.Get(next, s.Key);
            pages.AddRange(page.Json!["channels"]!.AsArray().Select(c => (string)c!["address"]!));
            next = page.Headers.TryGetValues("Link", out var link) ? link.Single().Split('<', '>')[1] : null;
        }
        pages.ShouldBe(["everyone", "role:deckhand", "role:role0", "role:role1", "role:role2", "role:role3", "role:role4", "role:role5",
            "role:role6"]);
        var first = await s.Get("/v1/channels?address=role:deckhand&limit=5", s.Key);
        var second = await s.Get(first.Headers.GetValues("Link").Single().Split('<', '>')[1], s.Key);
        first.Json!["people"]!.AsArray().Concat(second.Json!["people"]!.AsArray()).Select(p => (string)p!["user"]!)
            .ShouldBe(Enumerable.Range(0, 7).Select(i => $"user{i}"));
        second.Headers.Contains("Link").ShouldBeFalse();
    }

    [Fact]
    public async Task Only_those_who_may_read_see_them_and_mistakes_are_named()
    {
        (await s.Get("/v1/channels", s.Token("teo"))).Status.ShouldBe(401);
        (await s.Get("/v1/channels?address=role:engineer&search=x", s.Key)).Text.ShouldContain("can't stand with 'address'");
        (await s.Get("/v1/channels?limit=0", s.Key)).Status.ShouldBe(422);
    }
}
