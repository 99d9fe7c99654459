using Rovett.Testing;
using Shouldly;
using Xunit;

namespace Rovett.Service.Tests;

/// <summary>A person's inbox as the back office reads it.</summary>
public sealed class PersonInboxTests : IAsyncLifetime
{
    ServiceUnderTest s = null!;

    public async ValueTask InitializeAsync() => s = await ServiceUnderTest.Start();
    public ValueTask DisposeAsync() => s.DisposeAsync();

    static string Titles(Answer answer) =>
        string.Join(", ", answer.Json!["items"]!.AsArray().Select(i => (string)i!["title"]!));

    [Fact]
    public async Task It_is_what_the_person_sees_with_counts_and_choices_and_reading_it_changes_nothing()
    {
        var mara = s.Token("mara", "engineer");
        await s.Get("/v1/inbox/totals", mara);
        await s.Send("role:deckhand", "Mooring lines");
        await s.Send("role:engineer", "Fuel filter", "engine.check.due");
        await s.Send("user:mara", "Your watch begins at 18:00");
        (await s.Call(HttpMethod.Put, "/v1/choices", mara, """
            {"mutes":[{"type":"engine.check.due"}],
             "quiet":{"timeZone":"Europe/Berlin","hours":[{"from":"22:00","to":"06:00"}]}}
            """)).Status.ShouldBe(200);

        var seen = await s.Get("/v1/inboxes?user=mara", s.Key);
        seen.Status.ShouldBe(200, seen.Text);
        Titles(seen).ShouldBe("Your watch begins at 18:00, Fuel filter");
        ((string)seen.Json!["mutes"]![0]!["type"]!).ShouldBe("engine.check.due");
        ((string)seen.Json["quiet"]!["timeZone"]!).ShouldBe("Europe/Berlin");
        var own = await s.Get("/v1/inbox", mara);
        seen.Json["totals"]!.ToJsonString().ShouldBe(own.Json!["totals"]!.ToJsonString());
        seen.Json["items"]!.ToJsonString().ShouldBe(own.Json["items"]!.ToJsonString());
        own.Json["items"]![0]!["state"]!["received"].ShouldBeNull();
    }

    [Fact]
    public async Task Pages_follow_and_a_blocked_persons_inbox_is_shown_too()
    {
        await s.Get("/v1/inbox/totals", s.Token("teo"));
        for (int i = 1; i <= 5; i++) await s.Send("user:teo", $"Number {i}");
        await s.Call(HttpMethod.Put, "/v1/users/teo", s.Key, """{"blocked":true}""");

        var first = await s.Get("/v1/inboxes?user=teo&limit=3&state=unread", s.Key);
        Titles(first).ShouldBe("Number 5, Number 4, Number 3");
        var next = first.Headers.GetValues("Link").Single().Split('<', '>')[1];
        Titles(await s.Get(next, s.Key)).ShouldBe("Number 2, Number 1");
        Titles(await s.Get("/v1/inboxes?user=teo&state=read", s.Key)).ShouldBe("");
    }

    [Fact]
    public async Task Nobody_else_reads_it_and_mistakes_are_named()
    {
        await s.Get("/v1/inbox/totals", s.Token("teo"));
        (await s.Get("/v1/inboxes?user=teo", s.Token("teo"))).Status.ShouldBe(401);
        (await s.Get("/v1/inboxes?user=te", s.Key)).Text.ShouldContain("teo");
        (await s.Get("/v1/inboxes?user=te", s.Key)).Problem.ShouldBe("unknown-user");
        (await s.Get("/v1/inboxes", s.Key)).Text.ShouldContain("\"user\"");
        (await s.Get("/v1/inboxes?user=teo&page=nonsense", s.Key)).Text.ShouldContain("'next' link");
    }
}
