using System.Text.Json.Nodes;
using Rovett.Testing;
using Shouldly;
using Xunit;
using static Rovett.Service.Tests.Events.EventGround;

namespace Rovett.Service.Tests.Events;

/// <summary>Events over the network: what rules make of them, once and in order.</summary>
public sealed class EventTests : IAsyncLifetime
{
    ServiceUnderTest service = null!;
    string mara = "";

    public async ValueTask InitializeAsync()
    {
        service = await ServiceUnderTest.Start();
        mara = service.Token("mara", "engineer");
        await service.Get("/v1/totals", mara);
        await service.Load(Rules);
    }

    public ValueTask DisposeAsync() => service.DisposeAsync();

    [Fact]
    public async Task An_event_becomes_the_notifications_of_its_rules()
    {
        using var live = await service.WebSocket(mara);
        await live.Next("current");

        var answer = await service.Publish(Check("e1"));

        answer.Status.ShouldBe(200, answer.Text);
        var made = answer.Json!["notifications"]!.AsArray().ShouldHaveSingleItem()!;
        ((string)made["rule"]!, answer.Json["matched"]!.ToJsonString(), (bool)answer.Json["repeated"]!)
            .ShouldBe(("Engine check due", """["Engine check due"]""", false));
        var told = await live.Next("notification");
        ((string)told["id"]!, (string)told["title"]!, (string)told["link"]!, (string)told["type"]!)
            .ShouldBe(((string)made["id"]!, "turnstone: bow thruster due", "/vessels/turnstone/checks", "engine.check.due"));
        told.AsObject().ContainsKey("data").ShouldBeFalse();
    }

    [Fact]
    public async Task A_repeat_is_answered_the_same_whatever_the_rules_are_now_and_other_content_is_refused()
    {
        var first = await service.Publish(Check("e1"));
        await service.Load("rules: []");
        var again = await service.Publish(Check("e1", ",\"traceparent\":\"00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01\""));
        await service.Restart();
        var after = await service.Publish(Check("e1"));

        again.Json!["notifications"]!.ToJsonString().ShouldBe(first.Json!["notifications"]!.ToJsonString());
        after.Json!["notifications"]!.ToJsonString().ShouldBe(first.Json["notifications"]!.ToJsonString());
        ((bool)again.Json["repeated"]!, (bool)after.Json["repeated"]!).ShouldBe((true, true));
        (await service.Totals(mara)).Unread.ShouldBe(1);
        var other = await service.Publish(Event("e1", """{"priority":"low"}"""));
        (other.Status, other.Problem).ShouldBe((422, "event-differs"));
    }

    [Fact]
    public async Task An_unmatched_event_is_accepted_and_told_the_nearest_type()
    {
        long before = (long)(await service.Get("/v1/status", service.Key)).Json!["position"]!;

        var answer = await service.Publish(Event("e1", "{}", type: "engine.chek.due"));

        (answer.Status, (string)answer.Json!["nearest"]!, answer.Json["matched"]!.AsArray().Count).ShouldBe((200, "engine.check.due", 0));
        ((long)(await service.Get("/v1/status", service.Key)).Json!["position"]!).ShouldBe(before);
        (await service.Get("/v1/events?source=/planning/1&id=e1", service.Key)).Status.ShouldBe(404);
        (await service.Get("/v1/rules", service.Key)).Json!["unmatched"]![0]!["type"]!.GetValue<string>().ShouldBe("engine.chek.due");
    }

    [Fact]
    public async Task An_event_is_kept_as_it_came_where_the_space_says_so_and_shown_to_who_may_see_its_data()
    {
        await service.Publish(Check("e1"));
        (await service.Call(HttpMethod.Patch, "/v1/settings", service.Key, """{"keepEventData":true}""")).Status.ShouldBe(200);
        await service.Publish(Check("e2"));
        var reader = (string)(await service.Post("/v1/keys", service.Key, """{"name":"reader","scopes":["read"]}""")).Json!["key"]!;
        await service.Restart();

        async Task<JsonNode?> Kept(string id, string key) =>
            (await service.Get($"/v1/events?source=/planning/1&id={id}", key)).Json!["event"];
        (await Kept("e1", service.Key)).ShouldBeNull();
        (await Kept("e2", reader)).ShouldBeNull();
        JsonNode.DeepEquals(await Kept("e2", service.Key), JsonNode.Parse(Check("e2"))).ShouldBeTrue();
        var wrong = await service.Call(HttpMethod.Patch, "/v1/settings", service.Key, """{"keepEventData":1,"repeatsKeptFor":"47h"}""");
        (wrong.Status, wrong.Text.Contains("from 2d to 90d"), wrong.Text.Contains("must be true or false")).ShouldBe((422, true, true));
    }

    [Fact]
    public async Task The_story_is_told_in_both_directions()
    {
        await service.Raw(HttpMethod.Put, "/v1/types", service.Key, "types: { engine.check.due: { receipts: full } }", "application/yaml");
        const string trace = "00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01";
        var id = (string)(await service.Publish(Check("e1", $",\"subject\":\"vessel/turnstone\",\"traceparent\":\"{trace}\""))).Json!
            ["notifications"]![0]!["id"]!;

        var found = (await service.Get("/v1/events?source=/planning/1&id=e1", service.Key)).Json!;
        ((string)found["type"]!, (string)found["subject"]!, (string)found["trace"]!, (string)found["outcome"]!["notifications"]![0]!["id"]!)
            .ShouldBe(("engine.check.due", "vessel/turnstone", trace, id));
        var shown = (await service.Get($"/v1/notifications/{id}", service.Key)).Json!["events"]![0]!;
        ((string)shown["source"]!, (string)shown["id"]!, (string)shown["rule"]!).ShouldBe(("/planning/1", "e1", "Engine check due"));
        ((string)shown["trace"]!, shown["time"] is not null).ShouldBe((trace, true));
        (await service.Get($"/v1/inbox/{id}", mara)).Text.ShouldNotContain("planning");

        await service.Post("/v1/inbox/marks", mara, """{"read":{"all":true}}""");
        var receipt = await Eventually.Holds(async () => (await service.Get("/v1/receipts", service.Key)).Json!["receipts"]!.AsArray(),
            r => r.Count > 0, "a receipt");
        ((string)receipt[0]!["id"]!, (string)receipt[0]!["trace"]!).ShouldBe((id, trace));
    }

    [Fact]
    public async Task A_dry_run_says_what_matches_and_does_nothing()
    {
        var answer = await service.Publish(Check("e1"), query: "?dryRun=true");

        (answer.Json!["matched"]!.ToJsonString(), (bool)answer.Json["dryRun"]!).ShouldBe(("""["Engine check due"]""", true));
        (await service.Totals(mara)).Unread.ShouldBe(0);
        ((bool)(await service.Publish(Check("e1"))).Json!["repeated"]!).ShouldBeFalse();
    }

    [Fact]
    public async Task A_dry_run_asked_for_in_other_words_is_refused_and_not_done()
    {
        long version = (long)(await service.Get("/v1/rules", service.Key)).Json!["version"]!;
        var one = """{"to":["role:engineer"],"type":"a","title":"1"}""";

        var answers = new[]
        {
            await service.Publish(Check("e1"), query: "?dryRun=yes"),
            await service.Raw(HttpMethod.Put, "/v1/rules?dryRun=1", service.Key, "rules: []", "application/yaml"),
            await service.Call(HttpMethod.Put, "/v1/policies?dryRun=yes", service.Key, """{"policies":[]}"""),
            await service.Post("/v1/notifications?dryRun=yes", service.Key, $"[{one}]"),
            await service.Post("/v1/notifications?dryRun=yes", service.Key, one),
        };

        answers.Select(a => (a.Status, (string)a.Json!["errors"]![0]!["field"]!)).ShouldBe(Enumerable.Repeat((422, "dryRun"), 5));
        ((long)(await service.Get("/v1/rules", service.Key)).Json!["version"]!, (await service.Totals(mara)).Unread).ShouldBe((version, 0));
    }

    [Fact]
    public async Task Several_are_taken_in_order_and_a_bad_one_does_not_hold_up_the_others()
    {
        var lines = Enumerable.Range(0, 120).Select(i => Event($"e{i}",
            $$"""{"priority":"high","vessel":"v","check":"{{i}}"}""")).ToList();
        lines.Insert(7, "no");
        lines.Insert(9, Event("e3", """{"priority":"low"}"""));

        var answer = await service.PublishLines(lines);

        ((int)answer.Json!["taken"]!, (int)answer.Json["refused"]!).ShouldBe((120, 2));
        ((string)answer.Json["results"]![7]!["problem"]!["type"]!).ShouldEndWith("malformed-json");
        ((string)answer.Json["results"]![9]!["problem"]!["type"]!).ShouldEndWith("event-differs");
        var shown = (await service.Get("/v1/inbox?limit=100", mara)).Json!["items"]!.AsArray().Select(n => (string)n!["title"]!);
        shown.ShouldBe(Enumerable.Range(0, 100).Select(i => $"v: {119 - i} due"));
    }

    [Fact]
    public async Task An_event_in_items_reaches_each_person_once()
    {
        var answer = await service.Publish(Event("e1", """{"crew":["mara","teo","mara"],"sailing":"07:40"}""", "sailing.delayed"));

        answer.Json!["notifications"]!.AsArray().Count.ShouldBe(2);
        (await service.Titles(mara)).ShouldBe(["07:40 is late"]);
    }

    [Fact]
    public async Task A_key_publishes_only_what_it_may_and_cannot_use_up_ids_of_others()
    {
        async Task<string> Key(string limits) => (string)(await service.Post("/v1/keys", service.Key,
            $$"""{"name":"k","scopes":["send"],{{limits}}}""")).Json!["key"]!;
        var planning = await Key("\"events\":[\"engine.*\"],\"sources\":[\"/planning/*\"]");
        var narrow = await Key("\"types\":[\"engine.*\"]");
        var both = await Key("\"types\":[\"engine.*\"],\"events\":[\"engine.*\"]");

        (await service.Publish(Check("e1"), planning)).Status.ShouldBe(200);
        (await service.Publish(Check("e2"), both)).Status.ShouldBe(200);
        (await service.Publish(Check("e3"), narrow)).Problem.ShouldBe("api-key-narrowed");
        var other = await service.Publish(Event("e4", "{}", source: "/rota"), planning);
        (other.Status, (string)other.Json!["errors"]![0]!["field"]!).ShouldBe((403, "source"));
        (await service.Publish(Event("e4", """{"crew":[]}""", "sailing.delayed"), planning)).Problem.ShouldBe("api-key-narrowed");
        ((bool)(await service.Publish(Event("e4", """{"priority":"high","vessel":"v","check":"c"}""", source: "/rota"))).Json!["repeated"]!)
            .ShouldBeFalse();
    }

    [Fact]
    public async Task Each_notification_counts_for_the_limit_of_sends()
    {
        (await service.Call(HttpMethod.Patch, "/v1/settings", service.Key, """{"limits":{"sendsPerSecond":20}}""")).Status.ShouldBe(200);
        var crew = string.Join(',', Enumerable.Range(0, 100).Select(i => $"\"u{i}\""));

        var many = await service.PublishLines(Enumerable.Range(0, 3).Select(i =>
            Event($"e{i}", $$"""{"crew":[{{crew}}],"sailing":"07:40"}""", "sailing.delayed")));

        many.Json!["results"]!.AsArray().Select(r => (int?)r!["problem"]?["status"] ?? 200).ShouldBe([200, 429, 429]);
    }

    [Fact]
    public async Task Rules_are_tried_without_sending()
    {
        (await service.Call(HttpMethod.Put, "/v1/users/mara", service.Key, """{"roles":["engineer"]}""")).Status.ShouldBe(200);
        var answer = await service.Post("/v1/rules/try", service.Key, $$"""{"event":{{Check("e1")}}}""");
        var rule = answer.Json!["rules"]![0]!;
        ((bool)rule["matches"]!, (string)rule["notifications"]![0]!["notification"]!["title"]!,
            (int)rule["notifications"]![0]!["reach"]![0]!["users"]!).ShouldBe((true, "turnstone: bow thruster due", 1));

        var low = await service.Post("/v1/rules/try", service.Key, $$"""{"event":{{Event("e1", "{\"priority\":\"low\"}")}}}""");
        ((string)low.Json!["rules"]![0]!["because"]!).ShouldBe("data:/priority is \"low\"; must be high or urgent");
        var draft = await service.Post("/v1/rules/try", service.Key,
            new JsonObject { ["event"] = JsonNode.Parse(Check("e1")), ["document"] = "rules: [{ name: a, event: x }]" }.ToJsonString());
        draft.Json!["errors"]!.AsArray().Select(e => (string)e!["field"]!).ShouldBe(["rules[0].notification", "rules[0].to"], true);
        (await service.Totals(mara)).Unread.ShouldBe(0);
    }

    [Fact]
    public async Task Rules_are_loaded_whole_as_a_version()
    {
        long version = (long)(await service.Get("/v1/rules", service.Key)).Json!["version"]!;
        (await service.Load("rules: []", ("If-Match", "\"999\""))).Problem.ShouldBe("other-version");
        var wrong = await service.Raw(HttpMethod.Put, "/v1/rules", service.Key, "rules:\n  - nme: x\n", "application/yaml");
        ((string)wrong.Json!["errors"]![0]!["field"]!, (string)wrong.Json["errors"]![0]!["detail"]!)
            .ShouldBe(("rules[0].nme", "line 2, column 5: is unknown; did you mean 'name'?"));
        var loaded = await service.Load("rules: []", ("If-Match", $"\"{version}\""));
        loaded.Status.ShouldBe(200);
        (await service.Get($"/v1/rules?version={version}", service.Key)).Json!["rules"]!.AsArray().Count.ShouldBe(2);
        (await service.Publish(Check("e1"))).Json!["matched"]!.AsArray().Count.ShouldBe(0);
        var schema = await service.Get("/v1/rules/schema", null);
        ((string)schema.Json!["$id"]!).ShouldBe("urn:rovett:rules");
    }

    [Fact]
    public async Task Many_notifications_are_sent_in_one_request_and_a_bad_one_is_answered()
    {
        var one = """{"to":["role:engineer"],"type":"a","title":"1"}""";
        var array = await service.Post("/v1/notifications", service.Key, $$"""[{{one}},{"to":[]},{{one}}]""");
        var lines = await service.Raw(HttpMethod.Post, "/v1/notifications", service.Key, $"{one}\nno\n{one}", "application/x-ndjson");

        ((int)array.Json!["sent"]!, (int)array.Json["refused"]!, (string)array.Json["results"]![1]!["problem"]!["errors"]![0]!["field"]!)
            .ShouldBe((2, 1, "to"));
        ((int)lines.Json!["sent"]!, (int)lines.Json["refused"]!).ShouldBe((2, 1));
        (await service.Totals(mara)).Unread.ShouldBe(4);
        (await service.Post("/v1/notifications", service.Key, "[]")).Status.ShouldBe(422);
    }
}
