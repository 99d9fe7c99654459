using Rovett.Testing;
using Shouldly;
using Xunit;
using static Rovett.Service.Tests.Events.EventGround;

namespace Rovett.Service.Tests.Events;

/// <summary>Events that were taken are listed with what came of them.</summary>
public sealed class EventListTests : IAsyncLifetime
{
    ServiceUnderTest s = null!;

    public async ValueTask InitializeAsync()
    {
        s = await ServiceUnderTest.Start();
        await s.Load(Rules);
    }

    public ValueTask DisposeAsync() => s.DisposeAsync();

    async Task<string> Ids(string query)
    {
        var answer = await s.Get("/v1/events" + query, s.Key);
        answer.Status.ShouldBe(200, answer.Text);
        return string.Join(", ", answer.Json!["events"]!.AsArray().Select(e => (string)e!["id"]!));
    }

    [Fact]
    public async Task They_are_listed_newest_first_with_their_outcome_and_found_by_type_and_subject()
    {
        await s.Publish(Check("c1", ",\"subject\":\"vessel/turnstone\""));
        await s.Publish(Event("d1", """{"sailing":"Kittiwake 09:40","crew":["teo","nils"]}""", "sailing.delayed"));
        await s.Publish(Check("c2"));

        (await Ids("")).ShouldBe("c2, d1, c1");
        (await Ids("?type=sailing.*")).ShouldBe("d1");
        (await Ids("?type=engine.check.due")).ShouldBe("c2, c1");
        (await Ids("?type=engine")).ShouldBe("");
        (await Ids("?subject=vessel/turnstone")).ShouldBe("c1");
        var delayed = (await s.Get("/v1/events?type=sailing.delayed", s.Key)).Json!["events"]![0]!;
        delayed["outcome"]!["notifications"]!.AsArray().Count.ShouldBe(2);
        delayed["outcome"]!["matched"]![0]!.ToString().ShouldBe("Every crew member");
        delayed["event"].ShouldBeNull("its data is not kept");
    }

    [Fact]
    public async Task Pages_hold_each_event_once_also_of_those_taken_at_one_time()
    {
        await s.PublishLines(Enumerable.Range(1, 23).Select(i => Check($"n{i:00}")));
        var seen = new List<string>();
        for (string? next = "/v1/events?limit=5"; next is not null;)
        {
            var page = await s.Get(next, s.Key);
            seen.AddRange(page.Json!["events"]!.AsArray().Select(e => (string)e!["id"]!));
            next = page.Headers.TryGetValues("Link", out var link) ? link.Single().Split('<', '>')[1] : null;
        }
        seen.Order().ShouldBe(Enumerable.Range(1, 23).Select(i => $"n{i:00}"));
        seen.Count.ShouldBe(23);
    }

    [Fact]
    public async Task Data_that_is_kept_is_for_administrators_and_mistakes_are_named()
    {
        await s.Call(HttpMethod.Patch, "/v1/settings", s.Key, """{"keepEventData":true}""");
        await s.Publish(Check("c1"));
        var reader = (string)(await s.Post("/v1/keys", s.Key, """{"name":"reader","scopes":["read"]}""")).Json!["key"]!;
        (await s.Get("/v1/events", s.Key)).Json!["events"]![0]!["event"]!["data"]!["vessel"]!.ToString().ShouldBe("turnstone");
        (await s.Get("/v1/events", reader)).Json!["events"]![0]!["event"].ShouldBeNull();
        (await s.Get("/v1/events?page=nonsense", s.Key)).Text.ShouldContain("'next' link");
        (await s.Get("/v1/events?source=/planning/1", s.Key)).Text.ShouldContain("is missing; name the event's id");
        (await s.Get("/v1/events", s.Token("teo"))).Status.ShouldBe(401);
    }
}
