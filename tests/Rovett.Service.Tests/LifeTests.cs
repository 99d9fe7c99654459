using System.Text.Json.Nodes;
using Rovett.Testing;
using Shouldly;
using Xunit;

namespace Rovett.Service.Tests;

/// <summary>The life of a notification over the network: what devices hear, what counts, what comes back.</summary>
public sealed class LifeTests : IAsyncLifetime
{
    ServiceUnderTest service = null!;
    string mara = "", ivo = "";

    public async ValueTask InitializeAsync()
    {
        service = await ServiceUnderTest.Start(o =>
        {
            o.FullReceipts = ["engine.*"];
            o.ReconnectWindowSeconds = 0;
        });
        mara = service.Token("mara", "engineer");
        ivo = service.Token("ivo", "engineer");
    }

    public ValueTask DisposeAsync() => service.DisposeAsync();

    async Task<string> Send(string more, string to = "role:engineer", string type = "engine.check.due")
    {
        var answer = await service.Post("/v1/notifications", service.Key,
            $$"""{"to":["{{to}}"],"type":"{{type}}","title":"Check the thruster"{{(more.Length > 0 ? "," + more : "")}}}""");
        answer.Status.ShouldBe(201, answer.Text);
        return (string)answer.Json!["id"]!;
    }

    async Task<RawWebSocket> Live(string token)
    {
        var socket = await service.WebSocket(token);
        await socket.Next("current");
        return socket;
    }

    [Fact]
    public async Task A_withdrawn_notification_leaves_every_list_and_count_and_devices_that_were_away_hear_of_it()
    {
        using var live = await Live(mara);
        using var gone = await Live(ivo);
        var id = await Send("");
        (await live.Next("notification"))["unread"]!.GetValue<int>().ShouldBe(1);
        var cursor = (string)(await gone.Next("notification"))["cursor"]!;
        gone.Cut();
        var withdrawn = await service.Call(HttpMethod.Delete, $"/v1/notifications/{id}", service.Key);
        ((string)withdrawn.Json!["state"]!, (bool)withdrawn.Json["changed"]!).ShouldBe(("withdrawn", true));
        var told = await live.Next("withdrawn");
        ((string)told["id"]!, told["unread"]!.GetValue<int>()).ShouldBe((id, 0));
        (await service.Totals(mara)).Unread.ShouldBe(0);
        (await service.Get($"/v1/inbox/{id}", mara)).Status.ShouldBe(404);
        using var back = await service.WebSocket(ivo, $"?after={cursor}");
        ((string)(await back.Next("withdrawn"))["id"]!).ShouldBe(id);
        ((bool)(await service.Call(HttpMethod.Delete, $"/v1/notifications/{id}", service.Key)).Json!["changed"]!).ShouldBeFalse();
        var shown = (await service.Get($"/v1/notifications/{id}", service.Key)).Json!;
        shown["timeline"]!.AsArray().Select(t => (string)t!["state"]!).ShouldBe(["stored", "withdrawn"]);
        (await service.Call(HttpMethod.Delete, "/v1/notifications/nothing", service.Key)).Status.ShouldBe(404);
    }

    [Fact]
    public async Task A_time_to_live_ends_within_a_second_for_everybody()
    {
        using var live = await Live(mara);
        var id = await Send("\"ttl\":1");
        ((string?)(await live.Next("notification"))["expires"]).ShouldNotBeNull();
        var told = await live.Next("expired");
        ((string)told["id"]!, told["unread"]!.GetValue<int>()).ShouldBe((id, 0));
        (await service.Get("/v1/inbox", mara)).Json!["items"]!.AsArray().ShouldBeEmpty();
    }

    [Fact]
    public async Task In_a_slot_the_newer_replaces_the_older_for_exactly_the_same_people()
    {
        using var live = await Live(mara);
        var first = await Send("\"slot\":\"weather\"");
        await live.Next("notification");
        var second = await Send("\"slot\":\"weather\"");
        var replaced = await live.Next("replaced");
        ((string)replaced["id"]!, (string)replaced["by"]!).ShouldBe((first, second));
        (await live.Next("notification"))["unread"]!.GetValue<int>().ShouldBe(1);
        await Send("\"slot\":\"weather\"", to: "user:mara");
        (await live.Next("notification"))["unread"]!.GetValue<int>().ShouldBe(2);
    }

    [Fact]
    public async Task Of_two_who_take_the_same_one_gets_it_and_the_other_is_told_by_whom()
    {
        using var first = await Live(mara);
        using var second = await Live(ivo);
        var id = await Send("\"takeable\":true");
        await first.Next("notification");
        await second.Next("notification");
        var answers = await Task.WhenAll(service.Post($"/v1/inbox/{id}/take", mara, ""), service.Post($"/v1/inbox/{id}/take", ivo, ""));
        answers.Select(a => a.Status).Order().ShouldBe([200, 409]);
        bool maraHasIt = answers[0].Status == 200;
        answers.Single(a => a.Status == 409).Problem.ShouldBe("already-taken");
        var other = maraHasIt ? second : first;
        var told = await other.Next("taken");
        ((string)told["by"]!, told["unread"]!.GetValue<int>()).ShouldBe((maraHasIt ? "mara" : "ivo", 0));
        (await service.Totals(maraHasIt ? mara : ivo)).Unread.ShouldBe(1); // still hers, and not read by being taken
        ((string)(await service.Get($"/v1/notifications/{id}", service.Key)).Json!["taken"]!["by"]!).ShouldBe(maraHasIt ? "mara" : "ivo");
        (maraHasIt ? first : second).Text($$"""{"kind":"release","id":"{{id}}","requestId":"r"}""").IsCompleted.ShouldBeTrue();
        var released = await other.Next("released");
        ((string)released["title"]!, released["unread"]!.GetValue<int>()).ShouldBe(("Check the thruster", 1));
    }

    [Fact]
    public async Task A_taking_ends_by_its_time_and_by_the_loss_of_the_role()
    {
        using var other = await Live(ivo);
        var timed = await Send("\"takeable\":{\"for\":\"PT1S\"}");
        await other.Next("notification");
        (await service.Post($"/v1/inbox/{timed}/take", mara, "")).Status.ShouldBe(200);
        await other.Next("taken");
        ((string)(await other.Next("released"))["id"]!).ShouldBe(timed);
        (await service.Post($"/v1/inbox/{timed}/take", mara, "")).Status.ShouldBe(200);
        await other.Next("taken");
        await service.Get("/v1/inbox", service.Token("mara", "deckhand"));
        ((string)(await other.Next("released"))["id"]!).ShouldBe(timed);
    }

    [Fact]
    public async Task Who_looks_at_the_subject_gets_it_read_and_a_muted_type_does_not_ring_at_all()
    {
        using var live = await Live(mara);
        await live.Text("""{"kind":"attend","subject":"vessel/turnstone","requestId":"a"}""");
        await live.Next("done");
        await Send("\"subject\":\"vessel/turnstone\"");
        var read = await live.Next("notification");
        ((bool)read["read"]!, read["unread"]!.GetValue<int>()).ShouldBe((true, 0));
        (await service.Totals(mara)).Unread.ShouldBe(0);
        (await service.Post("/v1/mutes", mara, """{"type":"weather.warning"}""")).Json!["mutes"]!.AsArray().Count.ShouldBe(1);
        await Send("", type: "weather.warning");
        await Send("");
        ((string)(await live.Next("notification"))["type"]!).ShouldBe("engine.check.due");
        (await service.Totals(mara)).Unread.ShouldBe(1);
        var items = (await service.Get("/v1/inbox", mara)).Json!["items"]!.AsArray();
        items.Count(i => i!["state"]!["muted"]?.GetValue<bool>() == true).ShouldBe(1);
        (await service.Call(HttpMethod.Delete, "/v1/mutes?type=weather.warning", mara)).Json!["mutes"]!.AsArray().ShouldBeEmpty();
        await Send("", type: "weather.warning");
        (await live.Next("notification"))["unread"]!.GetValue<int>().ShouldBe(2);
        var totals = (await service.Get("/v1/inbox/totals?by=type&subject=vessel/turnstone", mara)).Json!;
        ((int)totals["byType"]!["weather.warning"]!, (int)totals["byType"]!["engine.check.due"]!,
            (int)totals["subject"]!["unread"]!).ShouldBe((1, 1, 0));
        (await service.Post("/v1/mutes", mara, """{"type":"a","subject":"b"}""")).Status.ShouldBe(422);
    }

    [Fact]
    public async Task An_ephemeral_one_reaches_who_is_connected_and_leaves_no_trace()
    {
        using var live = await Live(mara);
        var answer = await service.Post("/v1/notifications", service.Key,
            """{"to":["role:engineer"],"type":"job.progress","subject":"job/7","title":"40 %","store":false}""");
        (answer.Status, (bool)answer.Json!["stored"]!, answer.Json["id"]).ShouldBe((202, false, null));
        var told = await live.Next("notification");
        ((bool)told["stored"]!, (string)told["title"]!, told["cursor"], told["unread"]).ShouldBe((false, "40 %", null, null));
        (await service.Totals(mara)).Unread.ShouldBe(0);
        (await service.Get("/v1/inbox", ivo)).Json!["items"]!.AsArray().ShouldBeEmpty();
        (await service.Post("/v1/notifications", service.Key,
            """{"to":["everyone"],"type":"t","title":"t","store":false,"ttl":5,"slot":"s"}""")).Status.ShouldBe(422);
    }

    [Fact]
    public async Task A_failed_handler_gets_it_again_with_its_attempt_and_a_resume_says_what_is_a_repeat()
    {
        using var live = await service.WebSocket(mara, "?device=desk");
        var start = (string)(await live.Next("current"))["cursor"]!;
        var id = await Send("");
        var first = await live.Next("notification");
        await live.Text($$"""{"kind":"ack","ids":["{{id}}"],"again":true}""");
        var again = await live.Next("notification");
        ((string)again["id"]!, again["attempt"]!.GetValue<int>(), first["attempt"]!.GetValue<int>()).ShouldBe((id, 2, 1));
        await live.Text($$"""{"kind":"ack","ids":["{{id}}"],"handled":true,"requestId":"h"}""");
        await live.Next("done");
        live.Cut();
        var shown = await Eventually.Holds(async () => (await service.Get($"/v1/notifications/{id}", service.Key)).Json!,
            j => j["people"]!["handled"]!.GetValue<int>() == 1, "handled");
        var receipt = shown["receipts"]!.AsArray().ShouldHaveSingleItem()!;
        ((string)receipt["user"]!, (string)receipt["device"]!, receipt["handled"] is not null, receipt["read"]).ShouldBe(
            ("mara", "desk", true, null));
        using var back = await service.WebSocket(mara, "?device=desk&after=" + start);
        (await back.Next("notification"))["attempt"]!.GetValue<int>().ShouldBe(2);
    }

    [Fact]
    public async Task A_deadline_that_nobody_keeps_is_missed_once_and_somebody_else_hears_of_it()
    {
        using var manager = await Live(service.Token("ruth", "duty-manager"));
        var kept = await Send("\"deadlines\":[{\"within\":\"PT1S\"}]", to: "user:mara");
        await service.Post("/v1/inbox/marks", mara, """{"read":{"all":true}}""");
        var missed = await Send("\"deadlines\":[{\"by\":\"read\",\"within\":\"PT1S\",\"who\":\"each\",\"otherwise\":{\"to\":[\"role:duty-manager\"],\"type\":\"signature.late\",\"title\":\"Not signed\"}}]", to: "user:ivo");
        ((string)(await manager.Next("notification"))["title"]!).ShouldBe("Not signed");
        async Task<string> State(string id) =>
            (string)(await service.Get($"/v1/notifications/{id}", service.Key)).Json!["deadlines"]![0]!["state"]!;
        (await State(missed)).ShouldBe("missed");
        await Eventually.Holds(() => State(kept), s => s == "met", "met");
        (await service.Post("/v1/notifications", service.Key,
            """{"to":["role:engineer"],"type":"t","title":"t","deadlines":[{"by":"taken","within":"soon","who":"all","x":1,"otherwise":{}}]}""")).Json!["errors"]!.AsArray()
            .Select(e => (string)e!["field"]!)
            .ShouldBe(["deadlines[0].x", "deadlines[0].by", "deadlines[0].within", "deadlines[0].who", "deadlines[0].otherwise.to",
            "deadlines[0].otherwise.type", "deadlines[0].otherwise.title"], ignoreOrder: true);
    }

    [Fact]
    public async Task Everybody_of_several_roles_is_called_by_a_deadline_for_each_of_them_and_each_once()
    {
        var users = Enumerable.Range(0, 140).Select(i => $$"""{"id":"rigger-{{i}}","roles":["rigger"{{(i % 2 == 0 ? ",\"welder\"" : "")}}]}""");
        (await service.Post("/v1/users", service.Key, string.Join('\n', users))).Json!["stored"]!.GetValue<int>().ShouldBe(140);
        var sent = await service.Post("/v1/notifications", service.Key,
            """{"to":["role:rigger","role:welder"],"type":"t","title":"t","deadlines":[{"by":"read","within":"PT2S","who":"each"},{"by":"read","within":"PT2S"}]}""");
        var expires = await service.Post("/v1/notifications", service.Key, """{"to":["role:rigger"],"type":"t","title":"t","ttl":"PT2S"}""");
        foreach (int i in new[] { 0, 1, 139 })
        {
            (await service.Post("/v1/inbox/marks", service.Token($"rigger-{i}"), """{"read":{"all":true}}""")).Status.ShouldBe(200);
        }
        string at = $"/v1/notifications/{(string)sent.Json!["id"]!}";
        var states = await Eventually.Holds(
            async () => string.Join(' ', (await service.Get(at, service.Key)).Json!["deadlines"]!.AsArray().Select(d => (string)d!["state"]!)),
            s => !s.Contains("pending"), "the deadlines have ended", 20);
        states.ShouldBe("missed met");
        (await service.Get("/v1/receipts", service.Key)).Text.ShouldContain("\"missing\":137,");
        (await service.Get($"/v1/notifications/{(string)expires.Json!["id"]!}", service.Key)).Text.ShouldContain("expired");
    }

    [Fact]
    public async Task What_a_deadline_sends_otherwise_must_be_possible_when_it_is_sent()
    {
        // An address may stand in 256 different groups of addresses; the next one is refused, also where it is only for later.
        for (int i = 0; i < 256; i++)
            (await service.Post("/v1/notifications", service.Key,
                $$"""{"to":["role:engineer","role:r{{i}}"],"type":"t","title":"t"}""")).Status.ShouldBe(201, $"{i}");
        string Sent(string to) => $$$"""{"to":["user:mara"],"type":"t","title":"t","deadlines":[{"by":"read","within":"PT1S"},{"by":"read","within":"PT1S","otherwise":{"to":{{{to}}},"type":"t.late","title":"late"}}]}""";
        long before = (await service.Totals(mara)).Unread;
        var refused = await service.Post("/v1/notifications", service.Key, Sent("""["role:engineer","role:duty-manager"]"""));
        refused.Status.ShouldBe(422, refused.Text);
        ((string)refused.Json!["errors"]![0]!["field"]!).ShouldBe("deadlines[1].otherwise.to");
        (await service.Totals(mara)).Unread.ShouldBe(before);
        // What can be stored is, and comes.
        using var manager = await Live(service.Token("ruth", "duty-manager"));
        (await service.Post("/v1/notifications", service.Key, Sent("""["role:duty-manager"]"""))).Status.ShouldBe(201);
        ((string)(await manager.Next("notification"))["title"]!).ShouldBe("late");
    }

    [Fact]
    public async Task The_directory_gives_and_takes_roles_of_live_sessions_and_an_erased_person_leaves_nothing()
    {
        var teo = service.Token("teo");
        using var live = await Live(teo);
        var put = await service.Call(HttpMethod.Put, "/v1/users/teo", service.Key,
            """{"displayName":"Teo Marsh","locale":"en-GB","roles":["deckhand"]}""");
        put.Json!["holds"]!.AsArray().Select(r => (string)r!).ShouldBe(["everyone", "role:deckhand"]);
        (await live.Next("channels"))["channels"]!.AsArray().Select(c => (string)c!).ShouldContain("role:deckhand");
        await Send("", to: "role:deckhand");
        await live.Next("notification");
        var job = await Send("\"takeable\":true,\"deadlines\":[{\"by\":\"read\",\"within\":\"PT1S\",\"who\":\"each\"}]",
            to: "role:deckhand");
        (await service.Post($"/v1/inbox/{job}/take", teo, "{}")).Status.ShouldBe(200);
        await Eventually.Holds(async () => (await service.Get("/v1/receipts", service.Key)).Text,
            text => text.Contains("missingUsers\":[\"teo"), "the deadline is missed", 20);
        await service.Call(HttpMethod.Put, "/v1/users/teo", service.Key, """{"roles":[]}""");
        (await live.Next("channels"))["totals"]!["unread"]!.GetValue<int>().ShouldBe(0);
        var secret = await Send("\"body\":\"for-teo-only-canary\"", to: "user:teo");
        await live.Next("notification");
        var import = await service.Post("/v1/users", service.Key,
            "{\"id\":\"pia\",\"roles\":[\"harbour-desk\"]}\n\nnot json\n{\"id\":\"nils\",\"rolls\":[]}\n{\"id\":\"sanna\"}\n");
        ((int)import.Json!["stored"]!, (int)import.Json["refused"]!).ShouldBe((2, 2));
        import.Json["errors"]!.AsArray().Select(e => (string)e!["field"]!).ShouldBe(["line 3: (line)", "line 4: rolls"]);
        var lines = (await service.Post("/v1/users", service.Key, "{\"id\":\"pia\"}\nnot json\n",
            ("Accept", "application/x-ndjson"))).Text.TrimEnd().Split('\n');
        JsonNode.Parse(lines[^1])!.ToJsonString()
            .ShouldBe("""{"stored":1,"refused":1,"errors":[{"field":"line 2: (line)","detail":"is not one JSON object"}]}""");
        (await service.Call(HttpMethod.Put, "/v1/roles/harbour-desk", service.Key,
            """{"newcomers":"now","displayName":"Harbour desk"}""")).Json!["users"]!.GetValue<int>().ShouldBe(1);
        (await service.Get("/v1/users", service.Key)).Json!["users"]!.AsArray().Select(u => (string)u!["id"]!)
            .ShouldBe(["pia", "sanna", "teo"]);

        var erased = await service.Call(HttpMethod.Delete, "/v1/users/teo", service.Key);
        erased.Status.ShouldBe(200);
        ((string)(await live.Next("ending"))["reason"]!).ShouldBe("erased");
        (await service.Get("/v1/users/teo", service.Key)).Status.ShouldBe(404);
        var shown = await service.Get($"/v1/notifications/{secret}", service.Key);
        shown.Text.ShouldNotContain("canary");
        shown.Text.ShouldNotContain("teo\"");
        foreach (var path in new[] { $"/v1/notifications/{job}", "/v1/receipts", "/v1/audit" })
        {
            var text = (await service.Get(path, service.Key)).Text;
            text.ShouldContain("erased-", Case.Sensitive, path);
            text.ShouldNotContain("teo\"", Case.Sensitive, path);
        }
        (await service.Get("/v1/inbox", teo)).Problem.ShouldBe("signed-out");
        (await service.Get("/v1/inbox", service.Token("teo"))).Json!["items"]!.AsArray().ShouldBeEmpty(); // a new person by an old name
    }

    [Fact]
    public async Task Retention_takes_the_oldest_and_says_so_only_to_whom_it_took_something_from()
    {
        await using var small = await ServiceUnderTest.Start(o => o.KeepCount = 100);
        var token = small.Token("mara", "engineer");
        using var live = await small.WebSocket(token);
        await live.Next("current");
        await small.Send("user:mara");
        var cursor = (string)(await live.Next("notification"))["cursor"]!;
        live.Cut();
        for (int i = 0; i < 150; i++) await small.Send("user:mara");
        using var stranger = await small.WebSocket(small.Token("ivo", "deckhand"), $"?after={cursor}");
        await Eventually.Holds(async () => (await small.Totals(token)).Unread, count => count is > 60 and < 110, "trimmed");
        using var back = await small.WebSocket(token, $"?after={cursor}");
        var gap = await back.Next("gap");
        ((string)gap["reason"]!, gap["upTo"] is not null).ShouldBe(("retention", true));
        long unread = (await small.Totals(token)).Unread;
        (await back.Notifications((int)Math.Min(unread, 50))).Count.ShouldBeGreaterThan(0);
        for (string? kind = null; kind != "current"; kind = (string)(await stranger.Next())!["kind"]!) kind.ShouldNotBe("gap");
        await small.Restart();
        (await small.Totals(small.Token("mara", "engineer"))).Unread.ShouldBeInRange(60, 110);
    }
}
