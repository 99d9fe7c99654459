using Rovett.Testing;
using Shouldly;
using Xunit;

namespace Rovett.Service.Tests;

/// <summary>Spaces are made, isolated and removed while the service runs.</summary>
public sealed class SpaceTests : IAsyncLifetime
{
    ServiceUnderTest s = null!;

    public async ValueTask InitializeAsync() => s = await ServiceUnderTest.Start();
    public ValueTask DisposeAsync() => s.DisposeAsync();

    async Task<(string Key, string Secret)> Make(string name)
    {
        var made = await s.Post("/v1/spaces", s.Key, $$"""{"name":"{{name}}"}""");
        made.Status.ShouldBe(201, made.Text);
        ((string)made.Json!["path"]!).ShouldBe($"/s/{name}/v1");
        return ((string)made.Json["credentials"]!["adminKey"]!, (string)made.Json["credentials"]!["tokenSigningSecret"]!);
    }

    [Fact]
    public async Task A_space_made_at_run_time_has_everything_of_its_own_and_stays_over_a_restart()
    {
        var (key, secret) = await Make("harbour");
        var token = TestTokens.Make(secret, "mara", ["engineer"]);
        using (var live = await RawWebSocket.Connect(s.Port, "/s/harbour/v1/live", token))
        {
            await live.Next("current");
            (await s.Send("role:engineer", "Main's own")).ShouldNotBeNull();
            (await s.Post("/s/harbour/v1/notifications", key,
                """{"to":["role:engineer"],"type":"t","title":"Harbour's own"}""")).Status.ShouldBe(201);
            ((string)(await live.Next("notification"))["title"]!).ShouldBe("Harbour's own");
        }
        (await s.Call(HttpMethod.Put, "/s/harbour/v1/policies", key,
            """{"policies":[{"name":"all","topic":"{t...}","may":["subscribe"],"when":{"anyone":true}}]}""")).Status.ShouldBe(200);
        (await s.Get("/v1/policies", s.Key)).Json!["policies"]!.AsArray().ShouldBeEmpty();
        (await s.Call(HttpMethod.Patch, "/s/harbour/v1/settings", key,
            """{"limits":{"sendsPerSecond":3},"origins":["https://harbour.example"]}""")).Status.ShouldBe(200);
        (await s.Get("/v1/policies", key)).Problem.ShouldBe("api-key-of-another-space");
        (await s.Get("/v1/inbox", token)).Problem.ShouldBe("token-of-another-space");
        (await s.Get("/s/harbour/v1/audit", key)).Json!["acts"]!.AsArray().Select(a => (string)a!["act"]!)
            .ShouldBe(["policies.loaded", "settings.changed", "api-key.refused"]);
        // Only who administers main makes and removes spaces.
        (await s.Post("/v1/spaces", key, """{"name":"other"}""")).Problem.ShouldBe("api-key-of-another-space");
        (await s.Call(HttpMethod.Delete, "/v1/spaces/harbour", key)).Problem.ShouldBe("api-key-of-another-space");
        await s.Restart();
        (await s.Get("/s/harbour/v1/inbox", token)).Json!["items"]!.AsArray().Count.ShouldBe(1);
        (await s.Get("/v1/spaces", s.Key)).Json!["spaces"]!.AsArray().Select(x => (string)x!["name"]!).ShouldBe(["main", "harbour"]);
    }

    [Fact]
    public async Task A_removed_space_ends_for_everybody_at_once_and_leaves_nothing_behind()
    {
        var (key, secret) = await Make("harbour");
        var token = TestTokens.Make(secret, "mara", ["engineer"]);
        await s.Send("everyone", "Main stays");
        for (int i = 0; i < 700; i++)
        {
            await s.Post("/s/harbour/v1/notifications", key,
                $$"""{"to":["role:engineer","user:mara"],"type":"t","title":"canary-{{i}}"}""");
        }
        using var live = await RawWebSocket.Connect(s.Port, "/s/harbour/v1/live", token);
        await live.Next("current");
        await live.Text("""{"kind":"markRead","all":true,"requestId":"r"}""");
        await live.Next("done");
        var removed = await s.Call(HttpMethod.Delete, "/v1/spaces/harbour", s.Key);
        ((int)removed.Json!["sessionsEnded"]!).ShouldBe(1);
        ((string)(await live.Next("ending"))["reason"]!).ShouldBe("space-removed");
        foreach (var answer in new[] { await s.Get("/s/harbour/v1/inbox", token), await s.Get("/s/harbour/v1/status", key) })
        {
            answer.Problem.ShouldBe("unknown-space");
        }
        (await s.Get("/v1/status", key)).Problem.ShouldBe("api-key-unknown");
        var again = await s.Post("/v1/spaces", s.Key, """{"name":"harbour"}""");
        (again.Status, again.Problem, again.Headers.RetryAfter is not null).ShouldBe((409, "space-name-rests", true));
        await Eventually.Holds(() => Task.FromResult(s.Count("SELECT (SELECT count(*) FROM space) * 1000000 + (SELECT count(*) FROM entry " +
            "WHERE key>=35184372088832) + (SELECT count(*) FROM person WHERE space>1) + (SELECT count(*) FROM log WHERE space>1)")),
            n => n == 1_000_000, "everything of it is gone", 30);
        foreach (var table in new[] { "log_item", "mark_run", "tally", "tally_block", "user_log" })
        {
            s.Count($"SELECT count(*) FROM {table} t WHERE NOT EXISTS (SELECT 1 FROM log WHERE id=t.log)").ShouldBe(0, table);
        }
        (await s.Get("/v1/inbox", s.Token("mara"))).Json!["items"]!.AsArray().Count.ShouldBe(1);
        (await s.Call(HttpMethod.Delete, "/v1/spaces/harbour", s.Key)).Problem.ShouldBe("unknown-space");
        (await s.Call(HttpMethod.Delete, "/v1/spaces/main", s.Key)).Problem.ShouldBe("space-main");
        await s.Restart();
        (await s.Get("/v1/spaces", s.Key)).Json!["spaces"]!.AsArray().Count.ShouldBe(1);
    }

    [Fact]
    public async Task A_name_that_is_given_again_brings_nothing_back()
    {
        var clock = new TestClock();
        await using var timed = await ServiceUnderTest.Start(clock: clock);
        var first = (await timed.Post("/v1/spaces", timed.Key, """{"name":"harbour"}""")).Json!["credentials"]!;
        await timed.Post("/s/harbour/v1/notifications", (string)first["adminKey"]!, """{"to":["everyone"],"type":"t","title":"old"}""");
        await timed.Call(HttpMethod.Patch, "/s/harbour/v1/settings", (string)first["adminKey"]!, """{"tokens":{"audiences":["old"]}}""");
        await timed.Call(HttpMethod.Delete, "/v1/spaces/harbour", timed.Key);
        clock.Advance(TimeSpan.FromSeconds(61));
        var made = await timed.Post("/v1/spaces", timed.Key, """{"name":"harbour"}""");
        made.Status.ShouldBe(201, made.Text);
        var second = made.Json!["credentials"]!;
        (await timed.Get("/s/harbour/v1/status", (string)first["adminKey"]!)).Problem.ShouldBe("api-key-unknown");
        (await timed.Get("/s/harbour/v1/audit", (string)second["adminKey"]!)).Json!["acts"]!.AsArray().ShouldBeEmpty();
        (await timed.Get("/s/harbour/v1/settings", (string)second["adminKey"]!)).Json!["tokens"]!["audiences"]!.AsArray().ShouldBeEmpty();
        (await timed.Get("/s/harbour/v1/status", (string)second["adminKey"]!)).Json!["position"]!.GetValue<long>().ShouldBe(0);
    }

    [Fact]
    public async Task A_name_that_is_given_again_asks_nobody_of_the_one_before()
    {
        var clock = new TestClock();
        await using var timed = await ServiceUnderTest.Start(o => o.WebhookNetworks = ["127.0.0.1/32"], clock: clock);
        await using var backend = new CalledBackend { Answer = _ => (200, """{"decision":"deny","for":"1h"}""") };
        async Task<(string Key, string Problem)> MakeAndAsk(bool withDecider)
        {
            var made = (await timed.Post("/v1/spaces", timed.Key, """{"name":"harbour"}""")).Json!["credentials"]!;
            var (key, secret) = ((string)made["adminKey"]!, (string)made["tokenSigningSecret"]!);
            if (withDecider)
            {
                (await timed.Call(HttpMethod.Put, "/s/harbour/v1/deciders/rota", key, $$"""{"url":"{{backend.Url}}"}""")).Status.ShouldBe(
                    201);
            }
            (await timed.Call(HttpMethod.Put, "/s/harbour/v1/policies", key,
                """{"policies":[{"name":"rota decides","topic":"berth/{berth}","may":["follow"],"when":{"anyone":true},"ask":"rota"}]}""")).Status.ShouldBe(200);
            var token = TestTokens.Make(secret, "mara", ["engineer"]);
            return (key, (await timed.Post("/s/harbour/v1/follows", token, """{"topic":"berth/3"}""")).Problem!);
        }
        (await MakeAndAsk(true)).Problem.ShouldBe("not-allowed");
        backend.Calls.Count.ShouldBe(1);
        await timed.Call(HttpMethod.Delete, "/v1/spaces/harbour", timed.Key);
        clock.Advance(TimeSpan.FromSeconds(61));
        var (again, problem) = await MakeAndAsk(false);
        problem.ShouldBe("decision-unavailable");
        backend.Calls.Count.ShouldBe(1);
        (await timed.Get("/s/harbour/v1/deciders", again)).Json!["deciders"]!.AsArray().ShouldBeEmpty();
    }

    [Theory]
    [InlineData("{}")]
    [InlineData("[]")]
    [InlineData("""{"name":""}""")]
    [InlineData("""{"name":"a/b"}""")]
    [InlineData("""{"name":"a\u0001b"}""")]
    [InlineData("""{"name":7}""")]
    [InlineData("""{"name":"x","colour":"red"}""")]
    public async Task A_space_that_can_not_be_is_refused_with_the_field(string body) =>
    (await s.Post("/v1/spaces", s.Key, body)).Problem.ShouldBe("invalid-fields");
}
