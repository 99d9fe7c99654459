using System.Text.Json.Nodes;
using Rovett.Testing;
using Shouldly;
using Xunit;

namespace Rovett.Service.Tests;

/// <summary>Topics: who may subscribe to and follow them, what comes then, and what is said of it.</summary>
public sealed class TopicTests : IAsyncLifetime
{
    const string Policies = """
        {"policies":[
          {"name":"crew at their berth","topic":"berth/{berth}","may":["subscribe","follow"],"when":{"role":"berth-{berth}"}},
          {"name":"desks see berths","topic":"berth/{berth}","may":["subscribe"],"when":{"role":["harbour-desk","bridge"]}},
          {"name":"sailings of one's vessel","topic":"sailing/{vessel}/{number}","may":["subscribe","follow"],"when":{"claims":{"vessel":"{vessel}"}}},
          {"name":"own matters","topic":"person/{user}/{rest...}","may":["subscribe","follow"],"when":{"user":"{user}"}},
          {"name":"closed for works","topic":"berth/{berth}","never":["follow","subscribe"],"when":{"variables":{"berth":["9"]}}}
        ]}
        """;

    ServiceUnderTest s = null!;

    public async ValueTask InitializeAsync()
    {
        s = await ServiceUnderTest.Start(o => o.TopicsPerSession = 5);
        (await Load(Policies)).Status.ShouldBe(200);
    }

    public ValueTask DisposeAsync() => s.DisposeAsync();

    Task<Answer> Load(string policies, params (string, string)[] headers) =>
        s.Call(HttpMethod.Put, "/v1/policies", s.Key, policies, headers);

    static async Task<JsonObject> Ask(RawWebSocket live, string kind, string topic, string more = "")
    {
        await live.Text($$"""{"kind":"{{kind}}","topic":"{{topic}}","requestId":"{{kind}} {{topic}}"{{more}}}""");
        for (; ; )
        {
            var next = (await live.Next())!;
            if ((string?)next["requestId"] == $"{kind} {topic}") return next;
        }
    }

    static string Outcome(JsonObject answer) =>
        (string)answer["kind"]! == "done" ? "done" : ((string)answer["problem"]!["type"]!).Split(':')[^1];

    async Task<RawWebSocket> Live(string user, string[] roles, Action<Dictionary<string, object>>? change = null)
    {
        var live = await s.WebSocket(TestTokens.Make(s.Secret, user, roles, change: change));
        await live.Next("current");
        return live;
    }

    [Fact]
    public async Task What_is_subscribed_to_comes_live_and_is_in_no_inbox_and_no_total()
    {
        using var desk = await Live("pia", ["harbour-desk"]);
        using var other = await Live("teo", ["deckhand"]);
        Outcome(await Ask(desk, "subscribe", "berth/3")).ShouldBe("done");
        Outcome(await Ask(other, "subscribe", "berth/3")).ShouldBe("not-allowed");
        var answer = await s.Post("/v1/notifications", s.Key,
            """{"to":["topic:berth/3","role:nobody"],"type":"berth.reassigned","title":"Berth 3 now for Kittiwake"}""");
        answer.Status.ShouldBe(201, answer.Text);
        var reach = answer.Json!["reach"]!.AsArray().Single(r => (string)r!["address"]! == "topic:berth/3")!;
        ((int)reach["users"]!, (int)reach["connected"]!, (bool)reach["known"]!).ShouldBe((0, 1, true));
        var came = await desk.Next("notification");
        ((string)came["to"]!, (bool)came["counted"]!, (int)came["unread"]!).ShouldBe(("topic:berth/3", false, 0));
        (await s.Get("/v1/inbox", s.Token("pia", "harbour-desk"))).Json!["items"]!.AsArray().ShouldBeEmpty();
        await Ask(desk, "unsubscribe", "berth/3");
        await s.Send("topic:berth/3", "Not for pia");
        await s.Send("everyone", "For all");
        ((string)(await desk.Next("notification"))["title"]!).ShouldBe("For all");
        ((string)(await other.Next("notification"))["title"]!).ShouldBe("For all");
    }

    [Fact]
    public async Task Channels_say_what_is_subscribed_to_and_what_is_followed()
    {
        using var live = await Live("mara", ["berth-3", "harbour-desk"]);
        await live.Text("""{"kind":"subscribe","topic":"berth/4"}""");
        var channels = await live.Next("channels");
        channels["channels"]!.AsArray().Select(c => (string)c!)
            .ShouldBe(["user:mara", "role:berth-3", "role:harbour-desk", "topic:berth/4", "everyone"]);
        channels["subscribed"]!.AsArray().Select(c => (string)c!).ShouldBe(["topic:berth/4"]);
        await live.Text("""{"kind":"follow","topic":"berth/3"}""");
        channels = await live.Next("channels");
        channels["channels"]!.AsArray().Select(c => (string)c!).ShouldContain("topic:berth/3");
        channels["subscribed"]!.AsArray().Select(c => (string)c!).ShouldBe(["topic:berth/4"]);
        var seen = (await s.Get("/v1/sessions", s.Key)).Json!["sessions"]!.AsArray().Single()!["channels"]!.AsArray()
            .Select(c => (string)c!);
        seen.ShouldContain("topic:berth/3"); // operators see them as they are now
    }

    [Fact]
    public async Task What_is_followed_is_counted_and_caught_up_with_and_stops_when_it_is_followed_no_more()
    {
        var token = s.Token("mara", "berth-3");
        await s.Send("topic:berth/3", "Before");
        var follows = (await s.Post("/v1/follows", token, """{"topic":"berth/3"}""")).Json!;
        ((string)follows["follows"]![0]!["topic"]!, (bool)follows["follows"]![0]!["active"]!, (int)follows["totals"]!["unread"]!).ShouldBe(
            ("berth/3", true, 0));
        await s.Send("topic:berth/3", "While away");
        (await s.Totals(token)).Unread.ShouldBe(1);
        using (var live = await s.WebSocket(token))
        {
            var came = await live.Next("notification");
            ((string)came["title"]!, (string)came["to"]!, (int)came["unread"]!, came["counted"]).ShouldBe(
                ("While away", "topic:berth/3", 1, null));
            Outcome(await Ask(live, "unfollow", "berth/3")).ShouldBe("done");
        }
        (await s.Get("/v1/follows", token)).Json!["follows"]!.AsArray().ShouldBeEmpty();
        (await s.Totals(token)).Unread.ShouldBe(0);
        await s.Restart();
        await s.Send("topic:berth/3", "Too late");
        (await s.Get("/v1/inbox", s.Token("mara", "berth-3"))).Json!["items"]!.AsArray().ShouldBeEmpty();
    }

    [Fact]
    public async Task A_subscription_is_caught_up_with_after_a_cut_as_far_as_that_goes()
    {
        string cursor;
        using (var live = await Live("pia", ["harbour-desk"]))
        {
            await Ask(live, "subscribe", "berth/3");
            await s.Send("topic:berth/3", "One");
            cursor = (string)(await live.Next("notification"))["cursor"]!;
        }
        await s.Send("topic:berth/3", "Two");
        await s.Send("topic:berth/4", "Another berth");
        using (var back = await s.WebSocket(s.Token("pia", "harbour-desk"), "?after=" + cursor))
        {
            await back.Next("current");
            await back.Text($$"""{"kind":"subscribe","topic":"berth/3","after":"{{cursor}}"}""");
            ((string)(await back.Next("notification"))["title"]!).ShouldBe("Two");
        }
        for (int i = 0; i < 120; i++) await s.Send("topic:berth/3", $"N{i}");
        using var late = await Live("pia", ["harbour-desk"]);
        await late.Text($$"""{"kind":"subscribe","topic":"berth/3","after":"{{cursor}}"}""");
        var gap = await late.Next("gap");
        ((string)gap["reason"]!, (string)gap["topic"]!).ShouldBe(("catch-up", "berth/3"));
        (await late.Notifications(100)).Select(n => (string)n["title"]!).ShouldBe(Enumerable.Range(20, 100).Select(i => $"N{i}"));
    }

    [Fact]
    public async Task What_came_to_two_topics_is_caught_up_with_by_the_second_as_far_as_the_first_did_not_bring_it()
    {
        string cursor;
        using (var before = await Live("pia", ["harbour-desk"]))
        {
            await s.Send("user:pia", "Begin");
            cursor = (string)(await before.Next("notification"))["cursor"]!;
        }
        async Task Both(string title) =>
            (await s.Post("/v1/notifications", s.Key,
            $$"""{"to":["topic:berth/3","topic:berth/4"],"type":"t","title":"{{title}}"}""")).Status.ShouldBe(201);
        await Both("Before the first");
        using var live = await Live("pia", ["harbour-desk"]);
        await Ask(live, "subscribe", "berth/3");
        await Both("After the first");
        var came = await live.Next("notification");
        ((string)came["title"]!, (string)came["to"]!).ShouldBe(("After the first", "topic:berth/3"));
        await live.Text($$"""{"kind":"subscribe","topic":"berth/4","after":"{{cursor}}"}""");
        came = await live.Next("notification");
        ((string)came["title"]!, (string)came["to"]!).ShouldBe(("Before the first", "topic:berth/4"));
        await Both("After both");
        ((string)(await live.Next("notification"))["title"]!).ShouldBe("After both"); // and nothing twice
    }

    [Theory]
    [InlineData("berth/3", "berth-3", null, "done", "done")]
    [InlineData("berth/3", "berth-4", null, "not-allowed", "not-allowed")]
    [InlineData("berth/3", "bridge", null, "done", "not-allowed")]
    [InlineData("berth/9", "berth-9", null, "not-allowed", "not-allowed")]
    [InlineData("berth/3/inner", "berth-3", null, "not-allowed", "not-allowed")]
    [InlineData("sailing/turnstone/12", "deckhand", "turnstone", "done", "done")]
    [InlineData("sailing/turnstone/12", "deckhand", "kittiwake", "not-allowed", "not-allowed")]
    [InlineData("sailing/turnstone", "deckhand", "turnstone", "not-allowed", "not-allowed")]
    [InlineData("person/mara/letters", "deckhand", null, "done", "done")]
    [InlineData("person/mara/letters/2026/11", "deckhand", null, "done", "done")]
    [InlineData("person/teo/letters", "deckhand", null, "not-allowed", "not-allowed")]
    [InlineData("person/mara", "deckhand", null, "not-allowed", "not-allowed")]
    [InlineData("elsewhere", "harbour-desk", null, "not-allowed", "not-allowed")]
    public async Task Policies_decide_by_pattern_role_user_and_token(string topic, string role, string? vessel, string subscribe,
    string follow)
    {
        using var live = await Live("mara", [role], c =>
        {
            if (vessel is not null) c["vessel"] = vessel;
        });
        Outcome(await Ask(live, "subscribe", topic)).ShouldBe(subscribe);
        Outcome(await Ask(live, "follow", topic)).ShouldBe(follow);
    }

    [Fact]
    public async Task A_user_learns_only_that_it_was_refused_and_the_operator_why()
    {
        using var live = await Live("teo", ["deckhand"]);
        foreach (var topic in new[] { "berth/3", "nowhere/at/all" })
        {
            var problem = (await Ask(live, "subscribe", topic))["problem"]!.AsObject();
            ((int)problem["status"]!, (string)problem["detail"]!).ShouldBe((403, $"To subscribe 'topic:{topic}' is refused."));
            problem.ToJsonString().ShouldNotContain("polic");
            await live.Text($$"""{"kind":"subscribe","topic":"{{topic}}"}"""); // again and again: one line in the trail
        }
        await Ask(live, "subscribe", "berth/9");
        var acts = (await s.Get("/v1/audit", s.Key)).Json!["acts"]!.AsArray().Where(a => (string)a!["act"]! == "topic.refused").ToList();
        acts.Select(a => $"{a!["actor"]} {a["about"]} {a["detail"]!["by"]}").ShouldBe(
        [
            "user:teo topic:berth/3 no policy or grant allows it", "user:teo topic:nowhere/at/all no policy or grant allows it",
                "user:teo topic:berth/9 policy 'closed for works'",
        ]);
        var explained = (await s.Get("/v1/explain?user=teo&on=topic:berth/3", s.Key)).Json!;
        ((bool)explained["onChannel"]!).ShouldBeFalse();
        var right = explained["rights"]!.AsArray().Single(r => (string)r!["right"]! == "subscribe")!;
        ((string)right["decision"]!, (string)right["by"]!).ShouldBe(("deny", "no policy or grant allows it"));
        right["steps"]!.AsArray().Select(p => (string)p!["what"]! + ": " + (string)p["outcome"]!)
            .ShouldBe(["policy 'closed for works': does not apply", "policy 'crew at their berth': does not apply",
            "policy 'desks see berths': does not apply"], ignoreOrder: true);
        right["steps"]!.AsArray().Select(p => (string?)p!["fix"]).ShouldContain("give the user the role berth-3");
        (await s.Get("/v1/explain?user=teo&on=topic:berth/3", s.Token("teo"))).Status.ShouldBe(401);
    }

    [Fact]
    public async Task An_explanation_says_what_holds_for_roles_persons_and_strangers_too()
    {
        using var live = await Live("mara", ["engineer"]);
        async Task<JsonNode> Explain(string user, string on) => (await s.Get($"/v1/explain?user={user}&on={on}", s.Key)).Json!;
        ((bool)(await Explain("mara", "role:engineer"))["onChannel"]!).ShouldBeTrue();
        ((bool)(await Explain("mara", "role:bridge"))["onChannel"]!).ShouldBeFalse();
        ((bool)(await Explain("mara", "user:mara"))["onChannel"]!).ShouldBeTrue();
        ((bool)(await Explain("mara", "user:teo"))["onChannel"]!).ShouldBeFalse();
        ((bool)(await Explain("mara", "everyone"))["onChannel"]!).ShouldBeTrue();
        ((string)(await Explain("nobody", "everyone"))["steps"]![0]!["why"]!).ShouldContain("never connected");
        await s.Call(HttpMethod.Put, "/v1/users/mara", s.Key, """{"blocked":true}""");
        var blocked = await Explain("mara", "role:engineer");
        ((bool)blocked["onChannel"]!, (string)blocked["steps"]![0]!["outcome"]!).ShouldBe((false, "forbids"));
        (await s.Get("/v1/explain?user=mara&on=nonsense", s.Key)).Problem.ShouldBe("invalid-fields");
        (await s.Get("/v1/explain?on=everyone", s.Key)).Problem.ShouldBe("invalid-fields");
    }

    [Fact]
    public async Task Grants_let_in_until_they_end_and_bite_at_once()
    {
        using var live = await Live("teo", ["deckhand"]);
        using var desk = await Live("pia", ["harbour-desk"]);
        Outcome(await Ask(live, "subscribe", "berth/3")).ShouldBe("not-allowed");
        var given = await s.Post("/v1/grants", s.Key, """{"user":"teo","topic":"berth/3","may":["subscribe","follow"],"for":"8h"}""");
        given.Status.ShouldBe(201, given.Text);
        Outcome(await Ask(live, "subscribe", "berth/3")).ShouldBe("done");
        Outcome(await Ask(live, "follow", "berth/3")).ShouldBe("done");
        await s.Send("topic:berth/3", "Seen");
        ((string)(await live.Next("notification"))["title"]!).ShouldBe("Seen");
        ((int)(await s.Totals(s.Token("teo", "deckhand"))).Unread).ShouldBe(1);
        var listed = (await s.Get("/v1/grants?user=teo", s.Key)).Json!["grants"]!.AsArray().ShouldHaveSingleItem()!;
        ((string)listed["topic"]!, listed["until"] is not null).ShouldBe(("berth/3", true));
        (await s.Call(HttpMethod.Delete, $"/v1/grants/{listed["grant"]}", s.Key)).Status.ShouldBe(204);
        var channels = await live.Next("channels");
        channels["channels"]!.AsArray().Select(c => (string)c!).ShouldNotContain("topic:berth/3");
        ((int)channels["totals"]!["unread"]!).ShouldBe(0); // what is no longer the user's is not counted
        await s.Send("topic:berth/3", "Hidden");
        await s.Send("user:teo", "Plain");
        ((string)(await live.Next("notification"))["title"]!).ShouldBe("Plain");
        (await s.Call(HttpMethod.Delete, $"/v1/grants/{listed["grant"]}", s.Key)).Problem.ShouldBe("unknown-grant");
        // One for a role, which ends by itself.
        (await s.Post("/v1/grants", s.Key, """{"role":"deckhand","topic":"berth/3","may":["subscribe"],"for":"1s"}""")).Status.ShouldBe(
            201);
        Outcome(await Ask(live, "subscribe", "berth/3")).ShouldBe("done");
        (await live.Next("channels"))["channels"]!.AsArray().Select(c => (string)c!).ShouldNotContain("topic:berth/3");
        Outcome(await Ask(live, "subscribe", "berth/3")).ShouldBe("not-allowed");
        (await s.Get("/v1/audit", s.Key)).Json!["acts"]!.AsArray().Select(a => $"{a!["act"]} {a["about"]}").ShouldBeSubsetOf(
            ["policies.loaded version 1", "topic.refused topic:berth/3", "grant.given user:teo", "grant.ended user:teo",
            "grant.given role:deckhand"]);
    }

    [Fact]
    public async Task Other_policies_hold_at_once_for_who_is_here_and_for_who_is_away()
    {
        var away = s.Token("ivo", "berth-3");
        await s.Post("/v1/follows", away, """{"topic":"berth/3"}""");
        using var live = await Live("mara", ["berth-3"]);
        await Ask(live, "subscribe", "berth/3");
        await s.Send("topic:berth/3", "One");
        await live.Next("notification");
        var before = (await s.Get("/v1/policies", s.Key)).Json!;
        var loaded = await Load("""{"policies":[]}""");
        ((long)loaded.Json!["version"]!).ShouldBeGreaterThan((long)before["version"]!);
        loaded.Headers.ETag!.Tag.ShouldBe($"\"{loaded.Json["version"]}\"");
        (await live.Next("channels"))["channels"]!.AsArray().Select(c => (string)c!).ShouldNotContain("topic:berth/3");
        await s.Send("topic:berth/3", "Two");
        (await s.Totals(away)).Unread.ShouldBe(0);
        ((bool)(await s.Get("/v1/follows", away)).Json!["follows"]![0]!["active"]!).ShouldBeFalse();
        // Back again: what came meanwhile was not theirs, what came before and comes after is.
        (await Load(Policies)).Status.ShouldBe(200);
        await s.Send("topic:berth/3", "Three");
        (await s.Get("/v1/inbox", away)).Json!["items"]!.AsArray().Select(i => (string)i!["title"]!).ShouldBe(["Three"]);
        (await s.Get($"/v1/policies?version={before["version"]}", s.Key)).Json!["policies"]!.AsArray().Count.ShouldBe(5);
        (await Load(Policies, ("If-Match", $"\"{before["version"]}\""))).Problem.ShouldBe("other-version");
    }

    [Theory]
    [InlineData("""{"policies":[{"topic":"a","may":["subscribe"],"when":{"anyone":true}}]}""", "policies[0].name")]
    [InlineData("""{"policies":[{"name":"a","topic":"a/*","may":["subscribe"],"when":{"anyone":true}}]}""", "policies[0].topic")]
    [InlineData("""{"policies":[{"name":"a","topic":"a/{x}/{x}","may":["subscribe"],"when":{"anyone":true}}]}""", "policies[0].topic")]
    [InlineData("""{"policies":[{"name":"a","topic":"a/{x...}/b","may":["subscribe"],"when":{"anyone":true}}]}""", "policies[0].topic")]
    [InlineData("""{"policies":[{"name":"a","topic":"a","may":["fly"],"when":{"anyone":true}}]}""", "policies[0].may")]
    [InlineData("""{"policies":[{"name":"a","topic":"a","may":["say"],"never":["say"],"when":{"anyone":true}}]}""", "policies[0].may")]
    [InlineData("""{"policies":[{"name":"a","topic":"a","may":["say"]}]}""", "policies[0].when")]
    [InlineData("""{"policies":[{"name":"a","topic":"a","may":["say"],"when":{}}]}""", "policies[0].when")]
    [InlineData("""{"policies":[{"name":"a","topic":"a/{x}","may":["say"],"when":{"role":"crew-{y}"}}]}""", "policies[0].when.role")]
    [InlineData("""{"policies":[{"name":"a","topic":"a","may":["say"],"when":{"moon":"full"}}]}""", "policies[0].when.moon")]
    [InlineData("""{"policies":[{"name":"a","topic":"a","may":["say"],"when":{"anyone":true,"role":"x"}}]}""", "policies[0].when.anyone")]
    [InlineData("""{"policies":[{"name":"a","topic":"a","may":["say"],"when":{"anyone":true}},{"name":"a","topic":"b","may":["say"],"when":{"anyone":true}}]}""", "policies[1].name")]
    [InlineData("""{"policies":[{"name":"a","topic":"a","may":["say"],"when":{"anyone":true},"colour":"red"}]}""", "policies[0].colour")]
    [InlineData("""{"policies":{}}""", "policies")]
    [InlineData("""{"rules":[]}""", "policies")]
    public async Task A_mistake_in_policies_is_named_and_the_version_before_holds(string document, string field)
    {
        var answer = await Load(document);
        (answer.Status, answer.Problem).ShouldBe((422, "invalid-fields"));
        answer.Json!["errors"]!.AsArray().Select(e => (string)e!["field"]!).ShouldContain(field);
        (await s.Get("/v1/policies", s.Key)).Json!["policies"]!.AsArray().Count.ShouldBe(5);
        using var live = await Live("mara", ["berth-3"]);
        Outcome(await Ask(live, "subscribe", "berth/3")).ShouldBe("done");
    }

    [Fact]
    public async Task Too_many_topics_for_a_session_are_refused_with_the_limit()
    {
        using var live = await Live("pia", ["harbour-desk"]);
        for (int i = 1; i <= 5; i++) Outcome(await Ask(live, "subscribe", $"berth/{i}")).ShouldBe("done");
        Outcome(await Ask(live, "subscribe", "berth/6")).ShouldBe("too-many-topics");
        Outcome(await Ask(live, "subscribe", "berth/5")).ShouldBe("done"); // it has that already
        await Ask(live, "unsubscribe", "berth/1");
        Outcome(await Ask(live, "subscribe", "berth/6")).ShouldBe("done");
        (await s.Get("/v1/limits", s.Key)).Text.ShouldContain("topicsPerSession");
    }

    [Fact]
    public async Task A_token_that_says_something_else_of_what_policies_look_at_takes_the_topic_away()
    {
        using var live = await Live("mara", [], c => c["vessel"] = new[] { "turnstone", "kittiwake" });
        Outcome(await Ask(live, "subscribe", "sailing/turnstone/1")).ShouldBe("done");
        Outcome(await Ask(live, "follow", "sailing/kittiwake/2")).ShouldBe("done");
        var renewed = TestTokens.Make(s.Secret, "mara", [], change: c => c["vessel"] = "kittiwake");
        await live.Text($$"""{"kind":"renew","token":"{{renewed}}"}""");
        (await live.Next("channels"))["channels"]!.AsArray().Select(c => (string)c!)
            .ShouldBe(["user:mara", "topic:sailing/kittiwake/2", "everyone"]);
        await s.Send("topic:sailing/turnstone/1", "Hidden");
        await s.Send("topic:sailing/kittiwake/2", "Shown");
        ((string)(await live.Next("notification"))["title"]!).ShouldBe("Shown");
        // An older one brings nothing back.
        var older = TestTokens.Make(s.Secret, "mara", [], change: c => (c["iat"], c["vessel"]) = ((double)c["iat"] - 100, "turnstone"));
        await s.Get("/v1/inbox", older);
        Outcome(await Ask(live, "subscribe", "sailing/turnstone/1")).ShouldBe("not-allowed");
    }

    [Fact]
    public async Task An_ephemeral_send_to_a_topic_comes_to_who_follows_and_who_has_subscribed_once()
    {
        using var both = await Live("mara", ["berth-3", "harbour-desk"]);
        await Ask(both, "subscribe", "berth/3");
        await Ask(both, "follow", "berth/3");
        using var none = await Live("teo", ["deckhand"]);
        (await s.Post("/v1/notifications", s.Key,
            """{"to":["topic:berth/3"],"type":"progress","title":"40 %","store":false}""")).Status.ShouldBe(202);
        await s.Send("everyone", "After");
        var titles = (await both.Notifications(2)).Select(n => (string)n["title"]!);
        titles.ShouldBe(["40 %", "After"]);
        ((string)(await none.Next("notification"))["title"]!).ShouldBe("After");
    }
}
