using System.Text.Json.Nodes;
using Rovett.Testing;
using Shouldly;
using Xunit;
using static Rovett.Service.Tests.Events.EventGround;

namespace Rovett.Service.Tests;

/// <summary>The console's back end: who may view, who may operate, and that nobody else gets anything.</summary>
public sealed class ConsoleTests : IAsyncLifetime
{
    static readonly (string, string) Own = ("X-Rovett-Console", "1");
    ServiceUnderTest s = null!;

    public async ValueTask InitializeAsync() => s = await ServiceUnderTest.Start(o => o.Origins = ["https://crew.example"]);
    public ValueTask DisposeAsync() => s.DisposeAsync();

    async Task<(string, string)> SignUp(string name, string link)
    {
        var up = await s.Post("/console/api/sign-up", null,
            $$"""{"name":"{{name}}","password":"a long password","link":"{{link}}"}""", Own);
        up.Status.ShouldBe(204, up.Text);
        return ("Cookie", up.Headers.GetValues("Set-Cookie").Single().Split(';')[0]);
    }

    Task<Answer> Get(string path, (string, string) cookie) => s.Call(HttpMethod.Get, path, null, null, cookie);

    async Task<string> Invite((string, string) cookie, string may)
    {
        var made = await s.Post("/console/api/links", null, $$"""{"may":"{{may}}"}""", Own, cookie);
        made.Status.ShouldBe(201, made.Text);
        return ((string)made.Json!["link"]!).Split('=')[1];
    }

    [Fact]
    public async Task Who_may_view_looks_and_changes_nothing_and_who_may_operate_signs_people_out()
    {
        var ruth = await SignUp("ruth", s.Service.ConsoleLink!);
        var nils = await SignUp("nils", await Invite(ruth, "view"));
        ((string)(await Get("/console/api/me", nils)).Json!["may"]!).ShouldBe("view");
        using var live = await s.WebSocket(s.Token("teo", "deckhand"));
        await live.Next("current");
        foreach (var path in new[] { "/console/api/access?space=main", "/console/api/operators",
            "/console/api/explain?user=teo&on=role:deckhand" })
        {
            (await Get(path, nils)).Status.ShouldBe(200, path);
        }
        foreach (var (path, body) in new[] { ("sign-out-user?space=main", """{"user":"teo"}"""), ("links", """{"may":"operate"}"""),
            ("operators/remove", """{"name":"ruth"}""") })
        {
            (await s.Post("/console/api/" + path, null, body, Own, nils)).Problem.ShouldBe("may-only-view", path);
            (await s.Post("/console/api/" + path, null, body, Own)).Problem.ShouldBe("not-signed-in", path);
            (await s.Post("/console/api/" + path, null, body, ruth)).Problem.ShouldBe("foreign-page", path);
        }
        (await s.Post("/console/api/sign-out-user?space=main", null, """{"user":"teo"}""", Own, ruth)).Status.ShouldBe(204);
        ((string)(await live.Next("ending"))["reason"]!).ShouldBe("signed-out");
        (await s.Get("/v1/audit", s.Key)).Json!["acts"]!.AsArray().Select(a => $"{a!["actor"]} {a["act"]} {a["about"]}")
            .ShouldBe(["operator:ruth operator.invited view", "operator:ruth user.signed-out user:teo"]);
    }

    [Fact]
    public async Task Who_may_operate_connects_as_a_person_until_the_right_ends_and_it_is_in_the_audit_log()
    {
        var ruth = await SignUp("ruth", s.Service.ConsoleLink!);
        var nils = await SignUp("nils", await Invite(ruth, "operate"));
        var viewer = await SignUp("vera", await Invite(ruth, "view"));
        using (var own = await s.WebSocket(s.Token("teo", "deckhand"))) await own.Next("current");
        const string path = "/console/api/stand-ins?space=main", teo = """{"user":"teo"}""";
        (await s.Post(path, null, teo, Own, viewer)).Problem.ShouldBe("may-only-view");
        (await s.Post(path, null, teo, Own)).Problem.ShouldBe("not-signed-in");
        (await s.Post(path, null, teo, nils)).Problem.ShouldBe("foreign-page");
        (await s.Post(path, null, """{"user":"nobody"}""", Own, nils)).Problem.ShouldBe("unknown-user");

        var token = (string)(await s.Post(path, null, teo, Own, nils)).Json!["token"]!;
        await s.Post("/v1/spaces", s.Key, """{"name":"harbour"}""");
        (await s.Get("/s/harbour/v1/inbox", token)).Problem.ShouldBe("stand-in-ended");
        (await s.Get("/v1/status", token)).Status.ShouldBe(401);
        using var live = await s.WebSocket(token);
        // It holds the roles that teo has by the token that teo's own device showed.
        (await live.Next("opened"))["channels"]!.ToJsonString().ShouldContain("role:deckhand");
        await s.Send("role:deckhand", "Mooring lines");
        ((string)(await live.Next("notification"))["title"]!).ShouldBe("Mooring lines");
        ((int)(await s.Get("/v1/inbox", token)).Json!["totals"]!["unread"]!).ShouldBe(1);

        (await s.Post("/console/api/operators/remove", null, """{"name":"nils"}""", Own, ruth)).Status.ShouldBe(204);
        ((string)(await live.Next("ending"))["reason"]!).ShouldBe("signed-out");
        (await s.Get("/v1/inbox", token)).Problem.ShouldBe("stand-in-ended");
        (await s.Get("/v1/audit", s.Key)).Json!["acts"]!.AsArray().Select(a => $"{a!["actor"]} {a["act"]} {a["about"]}")
            .ShouldContain("operator:nils user.stood-in-for user:teo");
    }

    [Fact]
    public async Task Operators_sessions_are_listed_and_end_at_once()
    {
        var ruth = await SignUp("ruth", s.Service.ConsoleLink!);
        var nils = await SignUp("nils", await Invite(ruth, "operate"));
        using (var own = await s.WebSocket(s.Token("teo", "deckhand"))) await own.Next("current");
        var token = (string)(await s.Post("/console/api/stand-ins?space=main", null, """{"user":"teo"}""", Own, nils)).Json!["token"]!;
        (await Get("/console/api/operators", ruth)).Json!["sessions"]!.AsArray().Select(o => (string)o!["operator"]!)
            .ShouldBe(["nils", "ruth"]);

        (await s.Post("/console/api/operators/end-sessions", null, """{"name":"nils"}""", Own)).Problem.ShouldBe("not-signed-in");
        (await s.Post("/console/api/operators/end-sessions", null, """{"name":"nils"}""", Own, ruth)).Status.ShouldBe(204);
        (await Get("/console/api/operators", nils)).Problem.ShouldBe("not-signed-in");
        (await s.Get("/v1/inbox", token)).Problem.ShouldBe("stand-in-ended");
        (await Get("/console/api/operators", ruth)).Json!["sessions"]!.AsArray().Select(o => (string)o!["operator"]!).ShouldBe(["ruth"]);
        (await s.Get("/v1/audit", s.Key)).Json!["acts"]!.AsArray().Select(a => $"{a!["actor"]} {a["act"]} {a["about"]}")
            .ShouldContain("operator:ruth operator.signed-out nils");
    }

    [Fact]
    public async Task A_credential_to_connect_as_a_person_ends_after_fifteen_minutes_and_on_the_persons_sign_out()
    {
        var clock = new TestClock();
        await using var other = await ServiceUnderTest.Start(clock: clock);
        var up = await other.Post("/console/api/sign-up", null,
            $$"""{"name":"ruth","password":"a long password","link":"{{other.Service.ConsoleLink}}"}""", Own);
        var ruth = ("Cookie", up.Headers.GetValues("Set-Cookie").Single().Split(';')[0]);
        await other.Get("/v1/inbox", other.Token("teo"));
        async Task<string> Stand() =>
            (string)(await other.Post("/console/api/stand-ins?space=main", null, """{"user":"teo"}""", Own, ruth)).Json!["token"]!;

        var first = await Stand();
        clock.Advance(TimeSpan.FromMinutes(14));
        (await other.Get("/v1/inbox", first)).Status.ShouldBe(200);
        clock.Advance(TimeSpan.FromMinutes(2));
        (await other.Get("/v1/inbox", first)).Problem.ShouldBe("stand-in-ended");

        var second = await Stand();
        clock.Advance(TimeSpan.FromSeconds(1));
        (await other.Post("/v1/users/teo/sign-out", other.Key, "{}")).Status.ShouldBe(200);
        (await other.Get("/v1/inbox", second)).Problem.ShouldBe("signed-out");
    }

    [Fact]
    public async Task Facts_tell_who_is_there_what_was_sent_and_what_needs_somebody()
    {
        var ruth = await SignUp("ruth", s.Service.ConsoleLink!);
        using var live = await s.WebSocket(s.Token("teo", "deckhand"));
        await live.Next("current");
        await s.Send("role:deckhand");
        await s.Send("user:mara");
        await s.Load("rules: [{ name: R, event: e, to: [\"user:{{ data.who }}\"], notification: { title: T } }]");
        await s.Publish(Event("1", "{}", "e"));

        var facts = (await Get("/console/api/facts?space=main", ruth)).Json!;
        ((int)facts["sessions"]!["websocket"]!, (int)facts["live"]!, (long)facts["people"]!, (long)facts["channels"]!).ShouldBe((1, 1, 1, 1));
        ((long)facts["sent"]!, (long)facts["lastMinute"]!, (long)facts["setAside"]!).ShouldBe((2, 2, 1));
        ((int)facts["rules"]!, (int)facts["rulesFailed"]!, (long)facts["bugs"]!).ShouldBe((1, 1, 0));
        ((string)facts["changed"]![0]!["act"]!).ShouldBe("rules.loaded");
        (await s.Get("/console/api/facts?space=main", null)).Problem.ShouldBe("not-signed-in");
    }

    [Fact]
    public async Task The_consoles_way_to_the_API_takes_an_operator_in_place_of_a_key()
    {
        var ruth = await SignUp("ruth", s.Service.ConsoleLink!);
        var nils = await SignUp("nils", await Invite(ruth, "view"));
        (await s.Post("/v1/spaces", s.Key, """{"name":"harbour"}""")).Status.ShouldBe(201);
        const string send = """{"to":["user:mara"],"type":"t","title":"From the console"}""";

        var sent = await s.Post("/console/s/harbour/v1/notifications", null, send, Own, ruth);
        sent.Status.ShouldBe(201, sent.Text);
        (await Get("/console/s/harbour/v1/notifications", nils)).Json!["notifications"]![0]!["title"]!.GetValue<string>()
            .ShouldBe("From the console");
        (await Get("/console/s/main/v1/notifications", nils)).Json!["notifications"]!.AsArray().ShouldBeEmpty();

        (await s.Post("/console/s/main/v1/notifications", null, send, Own, nils)).Problem.ShouldBe("may-only-view");
        (await Get("/console/s/main/v1/keys", nils)).Problem.ShouldBe("may-only-view");
        (await Get("/console/s/main/v1/keys", ruth)).Status.ShouldBe(200);
        (await s.Post("/console/s/main/v1/notifications", null, send, ruth)).Problem.ShouldBe("foreign-page");
        (await s.Get("/console/s/main/v1/status", null)).Problem.ShouldBe("not-signed-in");
        (await s.Get("/console/s/main/v1/status", s.Key)).Problem.ShouldBe("not-signed-in");
        (await Get("/v1/status", ruth)).Status.ShouldBe(401);
        (await Get("/console/s/elsewhere/v1/status", ruth)).Problem.ShouldBe("unknown-space");
        // What is done this way is noted under the operator's name.
        (await s.Call(HttpMethod.Patch, "/console/s/main/v1/settings", null, """{"timeZone":"Europe/Berlin"}""", Own, ruth)).Status
            .ShouldBe(200);
        (await s.Get("/v1/audit", s.Key)).Json!["acts"]!.AsArray().ShouldContain(a => (string)a!["actor"]! == "operator:ruth"
            && (string)a["act"]! == "settings.changed");
    }

    [Fact]
    public async Task An_operator_who_is_removed_is_out_at_once_and_the_last_who_may_operate_stays()
    {
        var ruth = await SignUp("ruth", s.Service.ConsoleLink!);
        (await s.Post("/console/api/operators/remove", null, """{"name":"ruth"}""", Own, ruth)).Problem.ShouldBe("operator-stays");
        var nils = await SignUp("nils", await Invite(ruth, "operate"));
        (await s.Post("/console/api/operators/remove", null, """{"name":"ruth"}""", Own, nils)).Status.ShouldBe(204);
        (await Get("/console/api/operators", ruth)).Problem.ShouldBe("not-signed-in");
        // Another by the same name is not who was removed.
        await SignUp("ruth", await Invite(nils, "view"));
        (await Get("/console/api/operators", ruth)).Problem.ShouldBe("not-signed-in");
    }

    [Fact]
    public async Task A_session_ends_for_its_stream_and_for_every_copy_of_its_cookie()
    {
        var ruth = await SignUp("ruth", s.Service.ConsoleLink!);
        var nils = await SignUp("nils", await Invite(ruth, "operate"));
        using var busy = new CancellationTokenSource();
        var sending = Task.Run(async () =>
        {
            while (!busy.IsCancellationRequested) await s.Send("user:mara");
        });
        using (var stream = await RawEvents.Connect(s.Port, "/console/api/live", null, $"Cookie: {nils.Item2}"))
        {
            for (int i = 0; i < 3; i++) await NextView(stream);
            (await s.Post("/console/api/operators/remove", null, """{"name":"nils"}""", Own, ruth)).Status.ShouldBe(204);
            while (await NextView(stream) is not null) { } // it ends, though there is always something new
        }
        using (var stream = await RawEvents.Connect(s.Port, "/console/api/live", null, $"Cookie: {ruth.Item2}"))
        {
            await NextView(stream);
            (await s.Post("/console/api/sign-out", null, "", Own, ruth)).Status.ShouldBe(204);
            while (await NextView(stream) is not null) { }
        }
        await busy.CancelAsync();
        await sending;
        (await Get("/console/api/operators", ruth)).Problem.ShouldBe("not-signed-in"); // a copy of the cookie
        await s.Restart();
        (await Get("/console/api/operators", ruth)).Problem.ShouldBe("not-signed-in");
    }

    static async Task<JsonObject?> NextView(RawEvents stream) => await stream.Next();

    [Fact]
    public async Task The_view_begins_with_what_was_sent_before_and_follows_what_happens_to_it()
    {
        var ruth = await SignUp("ruth", s.Service.ConsoleLink!);
        var mara = s.Token("mara", "engineer");
        await s.Send("user:mara role:engineer", "Before");
        async Task Read() => (await s.Post("/v1/inbox/marks", mara, """{"read":{"all":true}}""")).Status.ShouldBe(200);
        await Read();
        await s.Restart(); // nothing of it is in memory
        using var stream = await RawEvents.Connect(s.Port, "/console/api/live", null, $"Cookie: {ruth.Item2}");
        async Task Shows(params string[] wanted)
        {
            List<string> seen;
            do
            {
                seen = [.. (await NextView(stream)).ShouldNotBeNull()["notifications"]!.AsArray()
                    .Select(n => $"{n!["title"]} {n["received"]} {n["read"]} {n["state"]}".Trim())];
            }
            while (!seen.SequenceEqual(wanted));
        }

        await Shows("Before 1 1");
        var id = await s.Send("user:mara", "After");
        await Shows("After 0 0", "Before 1 1");
        await Read();
        await Shows("After 1 1", "Before 1 1");
        (await s.Call(HttpMethod.Delete, $"/v1/notifications/{id}", s.Key)).Status.ShouldBeInRange(200, 299);
        await Shows("After 1 1 withdrawn", "Before 1 1");
        (await s.Call(HttpMethod.Delete, "/v1/users/mara", s.Key)).Status.ShouldBeInRange(200, 299);
        await Shows();
    }

    [Fact]
    public async Task Many_guesses_at_a_time_are_no_way_around_the_limit()
    {
        await SignUp("ruth", s.Service.ConsoleLink!);
        var answers = await Task.WhenAll(Enumerable.Range(0, 300)
            .Select(i => s.Post("/console/api/sign-in", null, $$"""{"name":"ruth","password":"guess {{i}}"}""", Own)));
        answers.Count(a => a.Problem == "sign-in-failed").ShouldBeLessThanOrEqualTo(5);
        answers.Count(a => a.Status == 429).ShouldBeGreaterThanOrEqualTo(295);
    }

    [Fact]
    public async Task Behind_a_proxy_with_TLS_the_cookie_is_kept_to_TLS()
    {
        await SignUp("ruth", s.Service.ConsoleLink!);
        async Task<string> Cookie(params (string, string)[] headers) =>
            (await s.Post("/console/api/sign-in", null, """{"name":"ruth","password":"a long password"}""",
            [Own, .. headers])).Headers.GetValues("Set-Cookie").Single();
        var plain = await Cookie();
        plain.ShouldContain("httponly");
        plain.ShouldContain("samesite=strict");
        plain.ShouldNotContain("secure");
        (await Cookie(("X-Forwarded-Proto", "https"))).ShouldContain("secure");
    }

    [Fact]
    public async Task A_sign_up_link_is_used_up_only_by_an_operator_and_another_needs_no_restart()
    {
        await SignUp("ruth", s.Service.ConsoleLink!);
        var made = await s.Post("/v1/console-links", s.Key, """{"may":"view"}""");
        made.Status.ShouldBe(201);
        var link = ((string)made.Json!["link"]!).Split('=')[1];
        var taken = await s.Post("/console/api/sign-up", null, $$"""{"name":"ruth","password":"a long password","link":"{{link}}"}""", Own);
        taken.Problem.ShouldBe("operator-exists");
        var nils = await SignUp("nils", link);
        ((string)(await Get("/console/api/me", nils)).Json!["may"]!).ShouldBe("view");
        (await s.Post("/console/api/sign-up", null, $$"""{"name":"pia","password":"a long password","link":"{{link}}"}""",
            Own)).Problem.ShouldBe("link-ended");
        var reader = (string)(await s.Post("/v1/keys", s.Key, """{"name":"reader","scopes":["read"]}""")).Json!["key"]!;
        (await s.Post("/v1/console-links", reader, "{}")).Problem.ShouldBe("api-key-scope");
        (await s.Post("/v1/console-links", s.Key, """{"may":"everything"}""")).Status.ShouldBe(422);
    }

    [Fact]
    public async Task Sign_ins_are_listed_with_those_refused_and_guessing_is_throttled()
    {
        var ruth = await SignUp("ruth", s.Service.ConsoleLink!);
        for (int i = 0; i < 5; i++)
        {
            (await s.Post("/console/api/sign-in", null, """{"name":"ruth","password":"guess"}""", Own)).Problem.ShouldBe("sign-in-failed");
        }
        (await s.Post("/console/api/sign-in", null, """{"name":"ruth","password":"a long password"}""", Own)).Problem.ShouldBe(
            "too-many-sign-ins");
        // Other names from the same address: bounded as well.
        int refused = 0;
        for (int i = 0; i < 40; i++)
        {
            refused += (await s.Post("/console/api/sign-in", null, $$"""{"name":"guess{{i}}","password":"guess"}""", Own)).Status == 429
                ? 1
                : 0;
        }
        refused.ShouldBe(15);
        var signIns = (await Get("/console/api/operators", ruth)).Json!["signIns"]!.AsArray();
        signIns.Count(x => (bool)x!["signedIn"]!).ShouldBe(1);
        signIns.Count(x => !(bool)x!["signedIn"]!).ShouldBe(30);
        ((string)signIns[0]!["address"]!).ShouldBe("127.0.0.1");
    }

    [Fact]
    public async Task Nothing_of_the_console_answers_a_foreign_page_or_a_backends_key_or_a_users_token()
    {
        var ruth = await SignUp("ruth", s.Service.ConsoleLink!);
        foreach (var path in new[] { "/console/api/me", "/console/api/live", "/console/api/access", "/console/api/operators",
            "/console/api/explain?user=teo&on=everyone" })
        {
            (await s.Call(HttpMethod.Get, path, null, null, ruth, ("Origin", "https://evil.example"))).Problem.ShouldBe("origin-refused",
                path);
            (await s.Call(HttpMethod.Get, path, null, null, ruth, ("Origin", "https://crew.example"))).Problem.ShouldBe("origin-refused",
                path);
            if (path.EndsWith("me", StringComparison.Ordinal)) continue;
            (await s.Get(path, s.Key)).Problem.ShouldBe("not-signed-in", path);
            (await s.Get(path, s.Token("ruth"))).Problem.ShouldBe("not-signed-in", path);
            (await s.Call(HttpMethod.Get, path, null, null, ("Cookie", ruth.Item2[..^4] + "AAAA"))).Problem.ShouldBe("not-signed-in", path);
        }
        var view = (await Get("/console/api/access", ruth)).Json!;
        view["limits"]!.AsArray().Select(l => (string)l!["name"]!).ShouldContain("topicsPerSession");
        (await Get("/console/api/access?space=nowhere", ruth)).Problem.ShouldBe("unknown-space");
    }
}
