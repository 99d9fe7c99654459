using Rovett.Testing;
using Shouldly;
using Xunit;

namespace Rovett.Service.Tests;

/// <summary>Notifications that were sent are listed and found.</summary>
public sealed class NotificationListTests : IAsyncLifetime
{
    ServiceUnderTest s = null!;

    public async ValueTask InitializeAsync() => s = await ServiceUnderTest.Start();
    public ValueTask DisposeAsync() => s.DisposeAsync();

    async Task<string> Send(string to, string type, string title, string more = "")
    {
        var answer = await s.Post("/v1/notifications", s.Key, $$"""{"to":["{{to}}"],"type":"{{type}}","title":"{{title}}"{{more}}}""");
        answer.Status.ShouldBe(201, answer.Text);
        return (string)answer.Json!["id"]!;
    }

    async Task<string> Titles(string query)
    {
        var answer = await s.Get("/v1/notifications?" + query, s.Key);
        answer.Status.ShouldBe(200, answer.Text);
        return string.Join(", ", answer.Json!["notifications"]!.AsArray().Select(n => (string)n!["title"]!));
    }

    [Fact]
    public async Task Each_filter_finds_its_own_and_all_given_must_fit()
    {
        foreach (var user in new[] { "mara", "ivo" }) await s.Get("/v1/inbox/totals", s.Token(user, "engineer"));
        await Send("role:engineer", "engine.check.due", "Turnstone: bow thruster", ",\"subject\":\"vessel/turnstone\",\"takeable\":true");
        var gale = await Send("everyone", "weather.warning", "Gale force 9", ",\"body\":\"from 15:30 at Marrow Sound\",\"slot\":\"gale\"");
        await Send("everyone", "weather.warning", "Gale force 10", ",\"slot\":\"gale\"");
        await Send("user:mara", "engine.alarm", "Bilge water");
        var bilge = await Send("user:mara", "engine.alarm", "Bilge water again");
        (await s.Call(HttpMethod.Delete, $"/v1/notifications/{bilge}", s.Key)).Status.ShouldBe(200);
        var mara = s.Token("mara", "engineer");
        var due = (await s.Get("/v1/notifications?type=engine.check.due", s.Key)).Json!["notifications"]![0]!;
        (await s.Post($"/v1/inbox/{due["id"]}/take", mara, "{}")).Status.ShouldBe(200);

        (await Titles("")).ShouldBe("Bilge water again, Bilge water, Gale force 10, Gale force 9, Turnstone: bow thruster");
        (await Titles("type=engine.alarm")).ShouldBe("Bilge water again, Bilge water");
        (await Titles("type=engine.*")).ShouldBe("Bilge water again, Bilge water, Turnstone: bow thruster");
        (await Titles("type=eng_ne.*")).ShouldBe("");
        (await Titles("address=everyone")).ShouldBe("Gale force 10, Gale force 9");
        (await Titles("subject=vessel/turnstone")).ShouldBe("Turnstone: bow thruster");
        (await Titles("text=MARROW%20sound")).ShouldBe("Gale force 9");
        (await Titles("state=replaced")).ShouldBe("Gale force 9");
        (await Titles("state=withdrawn")).ShouldBe("Bilge water again");
        (await Titles("state=taken")).ShouldBe("Turnstone: bow thruster");
        (await Titles("state=stored&type=engine.*")).ShouldBe("Bilge water");
        (await Titles("until=2020-01-01T00:00:00Z")).ShouldBe("");
        (await Titles("since=2020-01-01T00:00:00Z&address=user:mara")).ShouldBe("Bilge water again, Bilge water");
        var at = (string)(await s.Get($"/v1/notifications/{gale}", s.Key)).Json!["time"]!;
        (await Titles($"since={at}")).ShouldBe("Bilge water again, Bilge water, Gale force 10, Gale force 9");
        (await Titles($"until={at}")).ShouldBe("Turnstone: bow thruster");

        var taken = (await s.Get("/v1/notifications?state=taken", s.Key)).Json!["notifications"]![0]!;
        ((string)taken["taken"]!["by"]!, (long)taken["for"]!, (string)taken["state"]!).ShouldBe(("mara", 2, "taken"));
        await s.Post("/v1/inbox/marks", mara, """{"read":{"all":true}}""");
        var first = (await s.Get("/v1/notifications?address=everyone&limit=1", s.Key)).Json!["notifications"]![0]!;
        ((long)first["people"]!["read"]!, (long)first["for"]!).ShouldBe((1, 2));
    }

    [Fact]
    public async Task Pages_follow_each_other_without_a_gap_and_over_what_does_not_fit()
    {
        for (int i = 0; i < 25; i++) await Send("user:mara", i % 2 == 0 ? "even" : "odd", $"{i}");
        var titles = new List<string>();
        for (string? next = "/v1/notifications?type=even&limit=4"; next is not null;)
        {
            var page = await s.Get(next, s.Key);
            titles.AddRange(page.Json!["notifications"]!.AsArray().Select(n => (string)n!["title"]!));
            next = page.Headers.TryGetValues("Link", out var links) ? links.Single()[1..].Split('>')[0] : null;
            if (next is not null) next.ShouldContain("type=even");
        }
        titles.ShouldBe(Enumerable.Range(0, 25).Where(i => i % 2 == 0).Reverse().Select(i => $"{i}"));
    }

    [Fact]
    public async Task What_is_wrong_with_a_search_is_named()
    {
        var answer = await s.Get("/v1/notifications?address=nobody&since=yesterday&state=gone&limit=0", s.Key);
        answer.Status.ShouldBe(422);
        answer.Json!["errors"]!.AsArray().Select(e => (string)e!["field"]!).ShouldBe(["address", "since", "state", "limit"], ignoreOrder: true);
    }
}
