using System.Text.Json.Nodes;
using Rovett.Testing;
using Shouldly;
using Xunit;
using static Rovett.Service.Tests.Events.EventGround;

namespace Rovett.Service.Tests.Events;

/// <summary>The catalogue of types over HTTP, and what is carried to devices.</summary>
public sealed class TypesTests : IAsyncLifetime
{
    const string Types = """
        types:
          engine.check.due: { name: { en: Engine checks, de: Maschinenprüfungen }, urgency: high, receipts: full, data: { type: object, required: [checkId], properties: { checkId: { type: integer } } } }
          engine.alarm: { name: Alarms, always: true }
          crew.note: { name: Notes, carry: reference }
        events:
          engine.check.due: { data: { type: object, required: [vessel], properties: { vessel: { type: string }, id: { type: integer } } } }
        """;
    ServiceUnderTest service = null!;
    string mara = "";

    public async ValueTask InitializeAsync()
    {
        service = await ServiceUnderTest.Start();
        mara = service.Token("mara", "engineer");
        await service.Get("/v1/inbox/totals", mara);
    }

    public ValueTask DisposeAsync() => service.DisposeAsync();

    async Task<Answer> Load(string yaml = Types, params (string, string)[] headers) =>
        await service.Raw(HttpMethod.Put, "/v1/types", service.Key, yaml, "application/yaml", headers);

    Task<Answer> Send(string type, string more = "") =>
        service.Post("/v1/notifications", service.Key, $$"""{"to":["user:mara"],"type":"{{type}}","title":"T"{{more}}}""");

    static IEnumerable<string> Fields(Answer answer) => answer.Json!["errors"]!.AsArray().Select(e => (string)e!["field"]!);

    [Fact]
    public async Task Sends_are_held_against_their_type()
    {
        (await Load()).Status.ShouldBe(200);
        (await Send("engine.check.due", ",\"data\":{\"checkId\":\"91\"}")).Status.ShouldBe(422);
        Fields(await Send("engine.check.due")).ShouldBe(["data"]);
        Fields(await Send("engine.check.due", ",\"data\":{}")).ShouldBe(["data.checkId"]);
        var sent = await Send("engine.check.due", ",\"data\":{\"checkId\":91}");
        sent.Status.ShouldBe(201, sent.Text);
        var shown = (await service.Get($"/v1/notifications/{sent.Json!["id"]}", service.Key)).Json!;
        ((string)shown["urgency"]!, (string)shown["receiptsKept"]!).ShouldBe(("high", "full"));
        (await Send("anything.else")).Status.ShouldBe(201);
        var many = await service.Post("/v1/notifications", service.Key, """
            [{"to":["user:mara"],"type":"engine.check.due","title":"T"},{"to":["user:mara"],"type":"other","title":"T"}]
            """);
        ((int)many.Json!["sent"]!, (int)many.Json["refused"]!).ShouldBe((1, 1));
    }

    [Fact]
    public async Task Events_are_held_against_theirs_and_a_repeat_is_answered_as_before()
    {
        await service.Load("""
            rules:
              - { name: R, event: engine.check.due, to: ["user:mara"], notification: { type: check, title: "{{ data.vessel }}" } }
            """);
        var early = Event("1", """{"vessel":7}""");
        (await service.Publish(early)).Status.ShouldBe(200);
        await Load();
        ((bool)(await service.Publish(early)).Json!["repeated"]!).ShouldBeTrue();
        Fields(await service.Publish(Event("2", """{"vessel":7}"""))).ShouldBe(["data.vessel"]);
        (await service.Publish(Event("3", """{"vessel":"Turnstone"}"""))).Status.ShouldBe(200);
        var lines = await service.PublishLines([Event("4", "{}"), Event("5", """{"vessel":"Turnstone"}""")]);
        ((int)lines.Json!["taken"]!, (int)lines.Json["refused"]!).ShouldBe((1, 1));
    }

    [Fact]
    public async Task Rules_bring_their_catalogue_and_are_held_against_it()
    {
        const string rules = """

            rules:
              - { name: R, event: engine.check.due, to: ["user:mara"], notification: { title: "{{ data.VESSEL }}", data: { checkId: "{{ data.id }}" } } }
            """;
        var refused = await service.Load(Types + rules.Replace("VESSEL", "vesel"), ("If-Match", "\"0\""));
        (refused.Status, Fields(refused).Single()).ShouldBe((422, "rules[0].notification.title"));
        await service.Load(Types + rules.Replace("VESSEL", "vessel"));
        ((int)(await service.Get("/v1/types", service.Key)).Json!["types"]!.AsArray().Count).ShouldBe(3);
        (await service.Publish(Event("1", """{"vessel":"Turnstone","id":91}"""))).Json!["setAside"].ShouldBeNull();
        // What the rule makes does not fit its type: an event without the id is set aside with that reason.
        var aside = await service.Publish(Event("2", """{"vessel":"Turnstone"}"""));
        aside.Json!["setAside"].ShouldNotBeNull(aside.Text);
        await service.Restart();
        ((string)(await service.Get("/v1/types", service.Key)).Json!["types"]![0]!["names"]!["de"]!).ShouldBe("Maschinenprüfungen");
        (await Send("engine.check.due")).Status.ShouldBe(422);
        var loaded = await Load("events: { engine.check.due: { data: { type: object, properties: { ship: { type: string } } } } }");
        ((string)loaded.Json!["warnings"]![0]!).ShouldStartWith("the rules in effect, line ");
    }

    [Fact]
    public async Task A_version_is_loaded_whole_and_in_place_of_the_one_named()
    {
        (await Load("types: { a: { nome: x } }")).Status.ShouldBe(422);
        var dry = await service.Raw(HttpMethod.Put, "/v1/types?dryRun=true", service.Key, Types, "application/yaml");
        ((bool)dry.Json!["dryRun"]!, (int)dry.Json["types"]!).ShouldBe((true, 3));
        ((long)(await service.Get("/v1/types", service.Key)).Json!["version"]!).ShouldBe(0);
        (await Load(Types, ("If-Match", "\"7\""))).Status.ShouldBe(412);
        (await Load(Types, ("If-Match", "\"0\""))).Status.ShouldBe(200);
        (await service.Call(HttpMethod.Put, "/v1/types", mara, Types)).Status.ShouldBe(401);
    }

    [Fact]
    public async Task A_strict_space_takes_no_other_types()
    {
        await Load();
        (await service.Call(HttpMethod.Patch, "/v1/settings", service.Key, """{"strictTypes":true}""")).Status.ShouldBe(200);
        var refused = await Send("engine.alrm");
        ((string)refused.Json!["errors"]![0]!["detail"]!).ShouldEndWith("did you mean 'engine.alarm'?");
        (await Send("engine.alarm")).Status.ShouldBe(201);
        Fields(await service.Publish(Event("1", "{}", "sailing.delayed"))).ShouldBe(["type"]);
    }

    [Fact]
    public async Task People_choose_by_name_in_their_language_and_not_what_is_always_told()
    {
        await service.Call(HttpMethod.Put, "/v1/choices", mara, """{"mutes":[{"type":"engine.alarm"}]}""");
        await Load();
        var german = await service.Call(HttpMethod.Get, "/v1/choices", mara, null, ("Accept-Language", "fr, de;q=0.5, en;q=0.3"));
        german.Json!["types"]!.AsArray().Select(t => (string)t!["name"]!).ShouldBe(["Maschinenprüfungen", "Alarms", "Notes"]);
        ((bool)german.Json["types"]![1]!["always"]!).ShouldBeTrue();
        // The mute from before rests, and can stay; a new one is refused.
        (await Send("engine.alarm")).Status.ShouldBe(201);
        (await service.Totals(mara)).Unread.ShouldBe(1);
        (await service.Call(HttpMethod.Put, "/v1/choices", mara, """{"mutes":[{"type":"engine.alarm"}]}""")).Status.ShouldBe(200);
        var ivo = service.Token("ivo");
        Fields(await service.Call(HttpMethod.Put, "/v1/choices", ivo, """{"mutes":[{"type":"engine.alarm"}]}"""))
            .ShouldBe(["mutes[0].type"]);
        Fields(await service.Post("/v1/mutes", ivo, """{"type":"engine.alarm"}""")).ShouldBe(["type"]);
    }

    const string Whole = ",\"body\":\"B\",\"link\":\"/l\",\"data\":{\"a\":1}";

    [Fact]
    public async Task Devices_are_sent_what_is_carried_and_the_inbox_has_all()
    {
        await Load();
        using var desk = await service.WebSocket(mara);
        await desk.Next("current");
        await Send("crew.note", Whole);
        var reference = await desk.Next("notification");
        Members(reference).ShouldBe("attempt carry cursor id kind rev time to type unread urgency");
        await Send("other", Whole + ",\"carry\":\"summary\"");
        Members(await desk.Next("notification")).ShouldBe("attempt carry cursor id kind link rev time title to type unread urgency");
        // The least of type and send.
        await Send("crew.note", Whole + ",\"carry\":\"full\"");
        var third = await desk.Next("notification");
        Members(third).ShouldNotContain("title");

        var missing = "01KB8Q0M5H7C4B9A533F1C0E7D";
        var fetched = await service.Get($"/v1/inbox?ids={reference["id"]},{missing},{third["id"]}", mara);
        fetched.Json!["items"]!.AsArray().Select(i => (string)i!["id"]!).ShouldBe([(string)reference["id"]!, (string)third["id"]!]);
        var whole = fetched.Json["items"]![0]!;
        ((string)whole["title"]!, (string)whole["body"]!, whole["data"]!.ToJsonString()).ShouldBe(("T", "B", """{"a":1}"""));
        (await service.Get($"/v1/inbox?ids={reference["id"]}", service.Token("ivo"))).Json!["items"]!.AsArray().ShouldBeEmpty();
        await service.Call(HttpMethod.Delete, $"/v1/notifications/{reference["id"]}", service.Key);
        (await service.Get($"/v1/inbox?ids={reference["id"]}", mara)).Json!["items"]!.AsArray().ShouldBeEmpty();
    }

    [Fact]
    public async Task What_is_caught_up_with_and_what_is_released_is_carried_the_same_way()
    {
        await Send("other", Whole + ",\"carry\":\"reference\"");
        await service.Post("/v1/notifications", service.Key,
            """{"to":["role:engineer"],"type":"job","title":"T","takeable":true,"carry":"reference"}""");
        await service.Restart();
        using var desk = await service.WebSocket(mara);
        Members(await desk.Next("notification")).ShouldNotContain("title");
        var job = await desk.Next("notification");
        (await service.Post($"/v1/inbox/{job["id"]}/take", mara, "{}")).Status.ShouldBe(200);
        (await service.Post($"/v1/inbox/{job["id"]}/release", mara, "{}")).Status.ShouldBe(200);
        Members(await desk.Next("released")).ShouldNotContain("title");
    }

    [Fact]
    public async Task A_subscriber_fetches_what_came_by_the_subscription()
    {
        await service.Call(HttpMethod.Put, "/v1/policies", service.Key,
            """{"policies":[{"name":"berths","topic":"berth/{n}","may":["subscribe"],"when":{"role":"engineer"}}]}""");
        using var desk = await service.WebSocket(mara);
        await desk.Next("current");
        await desk.Text("""{"kind":"subscribe","topic":"berth/3","requestId":"1"}""");
        await desk.Next("done");
        await service.Post("/v1/notifications", service.Key,
            """{"to":["topic:berth/3"],"type":"moored","title":"Moored","carry":"reference"}""");
        var came = await desk.Next("notification");
        ((string)(await service.Get($"/v1/inbox?ids={came["id"]}", mara)).Json!["items"]![0]!["title"]!).ShouldBe("Moored");
    }

    [Theory]
    [InlineData("\"none\"", "carry")]
    [InlineData("\"summary\",\"store\":false", "carry")]
    public async Task What_cannot_be_carried_so_is_refused(string carry, string field) =>
        Fields(await Send("t", ",\"carry\":" + carry)).ShouldBe([field]);

    [Theory]
    [InlineData("?ids=nothing", "ids")]
    [InlineData("?ids=01KB8Q0M5H7C4B9A533F1C0E7D&limit=5", "limit")]
    public async Task Ids_that_are_none_are_refused(string query, string field) =>
        Fields(await service.Get("/v1/inbox" + query, mara)).ShouldBe([field]);

    static string Members(JsonObject message) => string.Join(' ', message.Select(m => m.Key).Order(StringComparer.Ordinal));
}
