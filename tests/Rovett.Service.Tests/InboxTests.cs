using Rovett.Testing;
using Shouldly;
using Xunit;

namespace Rovett.Service.Tests;

public sealed class InboxTests : IAsyncLifetime
{
    ServiceUnderTest s = null!;

    public async ValueTask InitializeAsync() => s = await ServiceUnderTest.Start();
    public ValueTask DisposeAsync() => s.DisposeAsync();

    [Fact]
    public async Task Pages_hold_everything_once_newest_first_and_the_totals_add_up()
    {
        var token = s.Token("mara", "engineer", "bridge");
        for (int i = 0; i < 25; i++)
        {
            await s.Send(i % 4 == 0 ? "user:mara" : i % 4 == 1 ? "role:engineer" : i % 4 == 2
                ? "role:bridge role:engineer"
                : "everyone user:ivo", $"n{i}");
        }
        var titles = new List<string>();
        var path = "/v1/inbox?limit=10";
        while (path is not null)
        {
            var page = await s.Get(path, token);
            titles.AddRange(page.Json!["items"]!.AsArray().Select(i => (string)i!["title"]!));
            var totals = page.Json["totals"]!;
            ((long)totals["unread"]!).ShouldBe(25);
            totals["by"]!.AsObject().Sum(b => (long)b.Value!).ShouldBe(25);
            path = page.Headers.TryGetValues("Link", out var link) ? link.Single().Split('<', '>')[1] : null;
        }
        titles.ShouldBe(Enumerable.Range(0, 25).Reverse().Select(i => $"n{i}"));
        (await s.Get("/v1/inbox", token)).Json!["totals"]!["by"]!.ToJsonString()
            .ShouldBe("""{"everyone":6,"role:bridge":6,"role:engineer":6,"user:mara":7}""");
    }

    [Fact]
    public async Task States_tell_when_it_was_received_and_read_and_filter()
    {
        var token = s.Token("mara", "engineer");
        var ids = new List<string>();
        for (int i = 0; i < 6; i++) ids.Add(await s.Send("role:engineer", $"n{i}"));
        (await s.Post("/v1/inbox/marks", token,
            $$$"""{"read":{"ids":["{{{ids[2]}}}","{{{ids[4]}}}"]}}""")).Json!["totals"]!["unread"]!.GetValue<long>().ShouldBe(4);
        async Task<string[]> Titles(string state) =>
            [.. (await s.Get("/v1/inbox?state=" + state, token)).Json!["items"]!.AsArray().Select(i => (string)i!["title"]!)];
        (await Titles("read")).ShouldBe(["n4", "n2"]);
        (await Titles("unread")).ShouldBe(["n5", "n3", "n1", "n0"]);
        var item = await s.Get("/v1/inbox/" + ids[2], token);
        item.Json!["state"]!["read"]!.GetValue<string>().ShouldBe(item.Json["state"]!["received"]!.GetValue<string>());
        (await s.Get("/v1/inbox/" + ids[3], token)).Json!["state"]!.ToJsonString().ShouldBe("""{"received":null,"read":null}""");
        (await s.Post("/v1/inbox/marks", token, $$$"""{"unread":{"ids":["{{{ids[2]}}}"]}}""")).Json!["totals"]!["unread"]!.GetValue<long>()
            .ShouldBe(5);
        (await s.Get("/v1/inbox/" + ids[2], token)).Json!["state"]!["read"].ShouldBeNull();
    }

    [Fact]
    public async Task Marks_by_cursor_subject_and_all_are_exact_and_survive_a_restart()
    {
        var token = s.Token("mara", "engineer");
        for (int i = 0; i < 9; i++)
        {
            await s.Post("/v1/notifications", s.Key,
                $$"""{"to":["role:engineer"],"type":"t","title":"n{{i}}","subject":"vessel/{{i % 3}}"}""");
        }
        (await s.Post("/v1/inbox/marks", token, """{"read":{"subject":"vessel/1"}}""")).Json!["totals"]!["unread"]!.GetValue<long>()
            .ShouldBe(6);
        var third = (string)(await s.Get("/v1/inbox", token)).Json!["items"]![6]!["cursor"]!;
        (await s.Post("/v1/inbox/marks", token, $$$"""{"read":{"upTo":"{{{third}}}"}}""")).Json!["totals"]!["unread"]!.GetValue<long>()
            .ShouldBe(4);
        await s.Restart();
        (await s.Totals(token)).ShouldBe((4, 2));
        (await s.Post("/v1/inbox/marks", token, """{"read":{"all":true}}""")).Json!["totals"]!["unread"]!.GetValue<long>().ShouldBe(0);
        (await s.Post("/v1/inbox/marks", token, """{"received":{"all":true}}""")).Json!["totals"]!["rev"]!.GetValue<long>().ShouldBe(3);
        await s.Send("role:engineer");
        (await s.Totals(token)).ShouldBe((1, 3));
        // Marking what is marked changes nothing, not even rev.
        await s.Post("/v1/inbox/marks", token, """{"read":{"subject":"vessel/1"}}""");
        (await s.Totals(token)).ShouldBe((1, 3));
    }

    [Fact]
    public async Task A_newcomer_finds_the_last_week_of_a_role_and_nothing_from_before()
    {
        await s.Send("role:engineer", "this week");
        (await s.Totals(s.Token("mara", "engineer"))).Unread.ShouldBe(1);
        await using var now = await ServiceUnderTest.Start(o => o.Newcomers = "now");
        await now.Send("role:engineer", "before");
        (await now.Totals(now.Token("mara", "engineer"))).Unread.ShouldBe(0);
        await now.Send("role:engineer", "after");
        (await now.Totals(now.Token("mara", "engineer"))).Unread.ShouldBe(1);
    }

    [Fact]
    public async Task Anothers_notification_answers_as_one_that_is_not_there()
    {
        var teos = await s.Send("user:teo", "for Teo");
        var mara = s.Token("mara", "engineer");
        var notHers = await s.Get("/v1/inbox/" + teos, mara);
        var nobodys = await s.Get("/v1/inbox/01ARZ3NDEKTSV4RRFFQ69G5FAV", mara);
        (notHers.Status, notHers.Problem).ShouldBe((404, "unknown-notification"));
        notHers.Text.Replace(teos, "").ShouldBe(nobodys.Text.Replace("01ARZ3NDEKTSV4RRFFQ69G5FAV", ""));
        (await s.Get("/v1/inbox/nonsense", mara)).Status.ShouldBe(404);
        (await s.Post("/v1/inbox/marks", mara, $$$"""{"read":{"ids":["{{{teos}}}"]}}""")).Problem.ShouldBe("unknown-notification");
        (await s.Totals(s.Token("teo"))).Unread.ShouldBe(1);
    }

    [Theory]
    [InlineData("""{}""")]
    [InlineData("""[]""")]
    [InlineData("""{"read":{}}""")]
    [InlineData("""{"read":{"all":false}}""")]
    [InlineData("""{"read":{"all":true,"subject":"x"}}""")]
    [InlineData("""{"read":{"ids":[]}}""")]
    [InlineData("""{"read":{"ids":["short"]}}""")]
    [InlineData("""{"read":{"upTo":"x"}}""")]
    [InlineData("""{"read":{"upTo":"AAAAAAAAAAAAAAAAAAAAAA"}}""")]
    [InlineData("""{"read":{"all":true},"unread":{"all":true}}""")]
    [InlineData("""{"seen":{"all":true}}""")]
    public async Task Marks_that_do_not_say_clearly_which_are_refused_and_change_nothing(string body)
    {
        await s.Send("user:mara");
        var token = s.Token("mara");
        (await s.Post("/v1/inbox/marks", token, body)).Status.ShouldBe(422);
        (await s.Totals(token)).ShouldBe((1, 0));
    }

    [Theory]
    [InlineData("state=some")]
    [InlineData("limit=0")]
    [InlineData("limit=1000")]
    [InlineData("page=nonsense")]
    public async Task Bad_query_parameters_are_named(string query)
    {
        var answer = await s.Get("/v1/inbox?" + query, s.Token("mara"));
        answer.Status.ShouldBe(422);
        ((string)answer.Json!["errors"]![0]!["field"]!).ShouldBe(query.Split('=')[0]);
    }
}
