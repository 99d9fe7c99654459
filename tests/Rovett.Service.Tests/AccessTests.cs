using System.Text;
using System.Text.Json.Nodes;
using Rovett.Testing;
using Shouldly;
using Xunit;

namespace Rovett.Service.Tests;

public sealed class AccessTests : IAsyncLifetime
{
    ServiceUnderTest s = null!;

    public async ValueTask InitializeAsync() =>
        s = await ServiceUnderTest.Start(o => (o.Spaces, o.Origins) = (["harbour"], ["https://crew.example"]));
    public ValueTask DisposeAsync() => s.DisposeAsync();

    string Wrong(string what) => what switch
    {
        "token-malformed" => "not.a.token",
        "api-key-for-token" => s.Key,
        "token-signature" => TestTokens.Make(new string('x', 43), "mara"),
        "token-expired" => TestTokens.Make(s.Secret, "mara", lifetime: TimeSpan.FromMinutes(-5)),
        "token-of-another-space" => TestTokens.Make(s.Credentials["harbour"].TokenSigningSecret, "mara"),
        "token-not-yet" => TestTokens.Make(s.Secret, "mara", change: c => c["iat"] = DateTimeOffset.UtcNow.AddHours(1).ToUnixTimeSeconds()),
        "token-algorithm" => $"{B64("""{"alg":"none","typ":"JWT"}""")}.{B64("""{"sub":"mara","iat":1,"exp":99999999999}""")}.",
        "no sub" => TestTokens.Make(s.Secret, "mara", change: c => c.Remove("sub")),
        "no exp" => TestTokens.Make(s.Secret, "mara", change: c => c.Remove("exp")),
        "no iat" => TestTokens.Make(s.Secret, "mara", change: c => c.Remove("iat")),
        "bad roles" => TestTokens.Make(s.Secret, "mara", ["a/b"]),
        "role number" => TestTokens.Make(s.Secret, "mara", change: c => c["roles"] = 7),
        "bad sub" => TestTokens.Make(s.Secret, "ma\u0007ra"),
        _ => throw new ArgumentException(what),
    };

    static string B64(string text) => Convert.ToBase64String(Encoding.UTF8.GetBytes(text)).TrimEnd('=').Replace('+', '-').Replace('/', '_');

    [Theory]
    [InlineData("token-malformed", 401)]
    [InlineData("api-key-for-token", 401)]
    [InlineData("token-signature", 401)]
    [InlineData("token-expired", 401)]
    [InlineData("token-of-another-space", 403)]
    [InlineData("token-not-yet", 401)]
    [InlineData("token-algorithm", 401)]
    [InlineData("no sub", 401, "token-claims")]
    [InlineData("no exp", 401, "token-claims")]
    [InlineData("no iat", 401, "token-claims")]
    [InlineData("bad roles", 401, "token-claims")]
    [InlineData("role number", 401, "token-claims")]
    [InlineData("bad sub", 401, "token-claims")]
    public async Task Tokens_that_do_not_hold_are_told_apart_on_every_path(string what, int status, string? slug = null)
    {
        var token = Wrong(what);
        foreach (var path in new[] { "/v1/inbox", "/v1/inbox/totals", "/v1/live" })
        {
            var answer = await s.Call(HttpMethod.Get, path, token, null, ("Accept", "text/event-stream"));
            (answer.Status, answer.Problem).ShouldBe((status, slug ?? what), path);
            ((string)answer.Json!["fix"]!).ShouldNotBeEmpty();
            if (status == 401) answer.Headers.WwwAuthenticate.ToString().ShouldBe("Bearer");
        }
        using var socket = await s.WebSocket(token);
        socket.Status.ShouldBe(status);
    }

    [Fact]
    public async Task A_missing_credential_is_said_to_be_missing()
    {
        (await s.Get("/v1/inbox", null)).Problem.ShouldBe("token-missing");
        (await s.Get("/v1/live", null)).Problem.ShouldBe("token-missing");
        (await s.Get("/v1/status", null)).Problem.ShouldBe("api-key-missing");
        (await s.Post("/v1/notifications", null, "{}")).Problem.ShouldBe("api-key-missing");
    }

    [Fact]
    public async Task API_keys_that_do_not_hold_are_told_apart()
    {
        (await s.Post("/v1/notifications", "rovett_key_nonsense", "{}")).Problem.ShouldBe("api-key-unknown");
        (await s.Post("/v1/notifications", s.Token("mara"), "{}")).Problem.ShouldBe("token-for-api-key");
        var foreign = await s.Post("/v1/notifications", s.Credentials["harbour"].AdminKey, "{}");
        (foreign.Status, foreign.Problem).ShouldBe((403, "api-key-of-another-space"));
        var made = await s.Post("/v1/keys", s.Key, """{"name":"booking","scopes":["send"]}""");
        made.Status.ShouldBe(201);
        var key = (string)made.Json!["key"]!;
        (await s.Post("/v1/notifications", key, """{"to":["everyone"],"type":"t","title":"t"}""")).Status.ShouldBe(201);
        var narrow = await s.Get("/v1/status", key);
        (narrow.Status, narrow.Problem).ShouldBe((403, "api-key-scope"));
        (await s.Call(HttpMethod.Delete, "/v1/keys/" + (string)made.Json["id"]!, s.Key)).Status.ShouldBe(204);
        (await s.Post("/v1/notifications", key, "{}")).Problem.ShouldBe("api-key-revoked");
        var listed = await s.Get("/v1/keys", s.Key);
        listed.Text.ShouldNotContain(key);
        listed.Json!["keys"]!.AsArray().Count.ShouldBe(2);
        (await s.Post("/v1/keys", s.Key, """{"name":"","scopes":["all"]}""")).Json!["errors"]!.AsArray().Count.ShouldBe(2);
    }

    [Fact]
    public async Task A_token_without_roles_leaves_them_and_an_older_one_brings_none_back()
    {
        var older = s.Token("mara", "engineer", "bridge");
        var newer = s.Token("mara", "engineer");
        await s.Get("/v1/inbox/totals", newer);
        async Task<string> Channels(string token)
        {
            using var live = await s.Events(token);
            return string.Join(' ', (await live.Next("opened"))["channels"]!.AsArray().Select(c => (string)c!));
        }
        (await Channels(older)).ShouldBe("user:mara role:engineer everyone");
        (await Channels(TestTokens.Make(s.Secret, "mara"))).ShouldBe("user:mara role:engineer everyone");
        (await Channels(s.Token("mara"))).ShouldBe("user:mara everyone");
    }

    async Task<string> Ticket(string token)
    {
        var answer = await s.Post("/v1/tickets", token, "{}");
        answer.Status.ShouldBe(201);
        ((int)answer.Json!["opensWithinSeconds"]!).ShouldBe(60);
        return (string)answer.Json["ticket"]!;
    }

    [Fact]
    public async Task A_ticket_opens_one_WebSocket_and_the_refusal_of_a_second_can_be_read_by_a_browser()
    {
        var ticket = await Ticket(s.Token("mara", "engineer"));
        using var first = await s.WebSocket(null, $"?ticket={ticket}");
        ((string)(await first.Next("opened"))["user"]!).ShouldBe("mara");
        using var second = await s.WebSocket(null, $"?ticket={ticket}");
        second.Status.ShouldBe(101);
        ((string)(await second.Next("refused"))["problem"]!["type"]!).ShouldEndWith("ticket-used");
        (await second.Next()).ShouldBeNull();
        second.CloseCode.ShouldBe(1008);
    }

    [Fact]
    public async Task Over_events_the_same_device_comes_back_with_its_ticket_even_after_a_restart_and_nobody_else_does()
    {
        var ticket = await Ticket(s.Token("mara", "engineer"));
        using (var first = await s.Events(null, $"?ticket={ticket}&device=phone",
            "Origin: https://crew.example")) await first.Next("current");
        using (var again = await s.Events(null, $"?ticket={ticket}&device=phone",
            "Origin: https://crew.example")) await again.Next("opened");
        (await s.Get($"/v1/live?ticket={ticket}&device=tablet", null)).Problem.ShouldBe("ticket-of-another-device");
        (await s.Get($"/v1/live?ticket={ticket}&device=phone", null)).Problem.ShouldBe("ticket-of-another-device");
        await s.Restart();
        using (var later = await s.Events(null, $"?ticket={ticket}&device=phone",
            "Origin: https://crew.example")) ((string)(await later.Next("opened"))["device"]!).ShouldBe("phone");
        using var socket = await s.WebSocket(null, $"?ticket={ticket}&device=phone", "Origin: https://crew.example");
        ((string)(await socket.Next("refused"))["problem"]!["type"]!).ShouldEndWith("ticket-used");
    }

    [Fact]
    public async Task A_ticket_that_was_guessed_is_of_another_space_or_whose_token_ended_does_not_open()
    {
        (await s.Get("/v1/live?ticket=rovett_ticket_guess", null)).Problem.ShouldBe("ticket-unknown");
        var ticket = await Ticket(s.Token("mara"));
        var foreign = await s.Get($"/s/harbour/v1/live?ticket={ticket}", null);
        (foreign.Status, foreign.Problem).ShouldBe((403, "ticket-of-another-space"));
        var ending = await Ticket(TestTokens.Make(s.Secret, "mara", lifetime: TimeSpan.FromSeconds(1)));
        using (var stream = await s.Events(null, $"?ticket={ending}"))
        {
            var end = await stream.Next("ending");
            ((string)end["reason"]!).ShouldBe("token-expired");
            end.ContainsKey("comeBackWithinMs").ShouldBeFalse();
            (await stream.Next()).ShouldBeNull();
        }
        // 204 makes an EventSource stop coming back.
        (await s.Get($"/v1/live?ticket={ending}", null)).Status.ShouldBe(204);
    }

    [Theory]
    [InlineData("https://evil.example")]
    [InlineData("null")]
    [InlineData("https://crew.example.evil.example")]
    [InlineData("http://crew.example")]
    public async Task A_foreign_origin_is_refused_by_status_on_every_transport_and_the_API(string origin)
    {
        var token = s.Token("mara");
        foreach (var path in new[] { "/v1/live", "/v1/inbox" })
        {
            (await s.Call(HttpMethod.Get, path, token, null, ("Origin", origin))).Problem.ShouldBe("origin-refused");
        }
        using var socket = await s.WebSocket(token, "", "Origin: " + origin);
        socket.Status.ShouldBe(403);
    }

    [Fact]
    public async Task A_listed_origin_and_the_own_one_may_and_are_told_so()
    {
        foreach (var origin in new[] { "https://crew.example", $"http://127.0.0.1:{s.Port}" })
        {
            var answer = await s.Call(HttpMethod.Get, "/v1/inbox", s.Token("mara"), null, ("Origin", origin));
            answer.Status.ShouldBe(200);
            answer.Headers.GetValues("Access-Control-Allow-Origin").Single().ShouldBe(origin);
        }
        var preflight = await s.Call(HttpMethod.Options, "/v1/inbox", null, null, ("Origin", "https://crew.example"),
            ("Access-Control-Request-Method", "GET"));
        preflight.Status.ShouldBe(204);
        preflight.Headers.GetValues("Access-Control-Allow-Headers").Single().ShouldContain("Authorization");
        preflight.Headers.GetValues("Access-Control-Allow-Headers").Single().ShouldContain("If-Match");
    }

    [Fact]
    public async Task A_space_with_origins_of_its_own_takes_those_and_no_others_and_refused_ones_are_counted()
    {
        var harbour = s.Credentials["harbour"];
        (await s.Call(HttpMethod.Patch, "/s/harbour/v1/settings", harbour.AdminKey,
            """{"origins":["https://harbour.example"]}""")).Status.ShouldBe(200);
        var token = TestTokens.Make(harbour.TokenSigningSecret, "pia");
        Task<Answer> From(string origin, string path, string credential) =>
            s.Call(HttpMethod.Get, path, credential, null, ("Origin", origin));
        (await From("https://harbour.example", "/s/harbour/v1/inbox", token)).Status.ShouldBe(200);
        (await From("https://crew.example", "/s/harbour/v1/inbox", token)).Problem.ShouldBe("origin-refused");
        (await From("https://crew.example", "/s/harbour/v1/inbox", token)).Problem.ShouldBe("origin-refused");
        (await From("https://harbour.example", "/v1/inbox", s.Token("mara"))).Problem.ShouldBe("origin-refused");
        var refused = (await s.Get("/s/harbour/v1/status", harbour.AdminKey)).Json!["originsRefused"]!.AsArray();
        ((string)refused.Single()!["origin"]!, (int)refused[0]!["count"]!).ShouldBe(("https://crew.example", 2));
        (await s.Call(HttpMethod.Patch, "/s/harbour/v1/settings", harbour.AdminKey, """{"origins":null}""")).Status.ShouldBe(200);
        (await From("https://crew.example", "/s/harbour/v1/inbox", token)).Status.ShouldBe(200);
    }

    [Fact]
    public async Task A_key_narrowed_to_types_and_addresses_sends_and_withdraws_nothing_else()
    {
        var made = await s.Post("/v1/keys", s.Key,
            """{"name":"engine room","scopes":["send"],"types":["engine.*"],"addresses":["role:engineer","user:*"]}""");
        var key = (string)made.Json!["key"]!;
        Task<Answer> Send(string to, string type) =>
            s.Post("/v1/notifications", key, $$"""{"to":[{{to}}],"type":"{{type}}","title":"t"}""");
        (await Send("\"role:engineer\",\"user:mara\"", "engine.alarm")).Status.ShouldBe(201);
        foreach (var (to, type, field) in new[] { ("\"everyone\"", "engine.alarm", "to[0]"),
            ("\"role:engineer\",\"role:engineers\"", "engine.alarm", "to[1]"), ("\"user:mara\"", "engine", "type"),
                ("\"user:mara\"", "Engine.alarm", "type") })
        {
            var refused = await Send(to, type);
            (refused.Status, refused.Problem).ShouldBe((403, "api-key-narrowed"));
            refused.Json!["errors"]!.AsArray().Select(e => (string)e!["field"]!).ShouldBe([field]);
        }
        var others = await s.Send("role:engineer", type: "berth.closed");
        (await s.Call(HttpMethod.Delete, "/v1/notifications/" + others, key)).Problem.ShouldBe("unknown-notification");
        var own = await s.Send("role:engineer", type: "engine.alarm");
        (await s.Call(HttpMethod.Delete, "/v1/notifications/" + own, key)).Status.ShouldBe(200);
        (await s.Post("/v1/keys", s.Key, """{"name":"x","scopes":["admin"],"types":["a"]}""")).Status.ShouldBe(422);
        (await s.Post("/v1/keys", s.Key,
            """{"name":"x","scopes":["send"],"types":["a*b"],"addresses":["r*","everyone"]}""")).Json!["errors"]!.AsArray()
            .Select(e => (string)e!["field"]!).ShouldBe(["types[0]", "addresses[0]"]);
    }

    [Fact]
    public async Task A_rotated_key_and_the_one_that_follows_hold_together_for_as_long_as_was_said()
    {
        var clock = new TestClock();
        await using var timed = await ServiceUnderTest.Start(clock: clock);
        var made = (await timed.Post("/v1/keys", timed.Key, """{"name":"booking","scopes":["send"],"types":["a"]}""")).Json!;
        Task<Answer> Send(JsonNode key) =>
            timed.Post("/v1/notifications", (string)key["key"]!, """{"to":["everyone"],"type":"a","title":"t"}""");
        (await timed.Post($"/v1/keys/{made["id"]}/rotate", timed.Key, """{"overlap":"100d"}""")).Status.ShouldBe(422);
        var next = (await timed.Post($"/v1/keys/{made["id"]}/rotate", timed.Key, """{"overlap":"1h"}""")).Json!;
        ((string)next["types"]![0]!).ShouldBe("a");
        foreach (var key in new[] { made, next }) (await Send(key)).Status.ShouldBe(201);
        clock.Advance(TimeSpan.FromMinutes(61));
        (await Send(made)).Problem.ShouldBe("api-key-ended");
        (await Send(next)).Status.ShouldBe(201);
        (await timed.Post($"/v1/keys/{made["id"]}/rotate", timed.Key, """{"overlap":"now"}""")).Problem.ShouldBe("unknown-key");
        (await timed.Post($"/v1/keys/{next["id"]}/rotate", timed.Key, """{"overlap":"now"}""")).Status.ShouldBe(201);
        (await Send(next)).Problem.ShouldBe("api-key-ended");
        var trail = (await timed.Get("/v1/audit", timed.Key)).Json!["acts"]!.AsArray();
        trail.Select(a => (string)a!["act"]!).ShouldBe(["api-key.made", "api-key.rotated", "api-key.rotated"]);
        trail.ToJsonString().ShouldNotContain((string)next["key"]!);
    }

    [Fact]
    public async Task A_WebSocket_may_show_its_token_in_its_first_message_and_only_there()
    {
        await using var strict = await ServiceUnderTest.Start(o => (o.HandshakeSeconds, o.MaxUnauthenticated) = (1, 2));
        async Task<string> Refusal(RawWebSocket socket)
        {
            var refused = await socket.Next("refused");
            (await socket.Next()).ShouldBeNull();
            socket.CloseCode.ShouldBe(1008);
            return ((string)refused["problem"]!["type"]!).Split(':')[^1];
        }
        using (var socket = await strict.WebSocket(null, "?device=desk"))
        {
            // What follows in the same packet is carried out too.
            await socket.Write(
                (byte[])[.. RawWebSocket.Frame(0x81,
                Encoding.UTF8.GetBytes($$"""{"kind":"renew","token":"{{strict.Token("mara", "engineer")}}"}""")),
                .. RawWebSocket.Frame(0x81, """{"kind":"attend","subject":"x","requestId":"1"}"""u8)]);
            var opened = await socket.Next("opened");
            ((string)opened["user"]!, (string)opened["device"]!).ShouldBe(("mara", "desk"));
            ((string)(await socket.Next("done"))["requestId"]!).ShouldBe("1");
            await strict.Send("role:engineer", "Here");
            ((string)(await socket.Next("notification"))["title"]!).ShouldBe("Here");
        }
        using (var silent = await strict.WebSocket(null)) (await Refusal(silent)).ShouldBe("token-missing");
        using (var other = await strict.WebSocket(null))
        {
            await other.Text("""{"kind":"ack","ids":["01M83TCXK2Z4J8Q5V6W7X8Y9ZA"]}""");
            (await Refusal(other)).ShouldBe("token-missing");
        }
        using (var forged = await strict.WebSocket(null))
        {
            await forged.Text($$"""{"kind":"renew","token":"{{TestTokens.Make(new string('x', 43), "mara")}}"}""");
            (await Refusal(forged)).ShouldBe("token-signature");
        }
        using (var wrong = await strict.WebSocket(null, "?device="))
        {
            await wrong.Text($$"""{"kind":"renew","token":"{{strict.Token("mara")}}"}""");
            (await Refusal(wrong)).ShouldBe("invalid-fields");
        }
        // The places of those before are given back a moment after they are gone.
        async Task<RawWebSocket> Place()
        {
            RawWebSocket? open = null;
            await Eventually.Holds(async () =>
            {
                open?.Dispose();
                open = await strict.WebSocket(null);
                return open.Status;
            }, status => status == 101, "there is a place");
            return open!;
        }
        using var one = await Place();
        using var two = await Place();
        using var three = await strict.WebSocket(null);
        three.Status.ShouldBe(503);
        (await Refusal(one)).ShouldBe("token-missing");
        (await Refusal(two)).ShouldBe("token-missing");
        await Eventually.Holds(async () =>
        {
            using var again = await strict.WebSocket(null);
            return again.Status;
        }, status => status == 101, "places are given back");
    }

    [Fact]
    public async Task A_session_is_told_in_time_that_its_token_ends_and_goes_on_with_a_newer_one()
    {
        var clock = new TestClock();
        await using var timed = await ServiceUnderTest.Start(clock: clock);
        var first = timed.Token("mara", "engineer", "bridge");
        var ticket =
            (string)(await timed.Post("/v1/tickets", TestTokens.Make(timed.Secret, "mara", ["engineer", "bridge"]), "{}")).Json!["ticket"]!;
        using var socket = await timed.WebSocket(first);
        using var events = await timed.Events(null, $"?ticket={ticket}&device=phone");
        foreach (RawConnection live in new RawConnection[] { socket, events }) await live.Next("current");
        clock.Advance(TimeSpan.FromMinutes(59.2));
        foreach (RawConnection live in new RawConnection[] { socket, events })
        {
            DateTimeOffset.Parse((string)(await live.Next("expiring"))["at"]!).ShouldBeLessThan(clock.GetUtcNow().AddMinutes(1));
        }

        string Newer(string user, params string[] roles) =>
            TestTokens.Make(timed.Secret, user, roles, change: c => c["exp"] = clock.GetUtcNow().ToUnixTimeSeconds() + 3600);
        async Task<string> Renew(string token)
        {
            await socket.Text($$"""{"kind":"renew","token":"{{token}}","requestId":"r"}""");
            for (; ; )
            {
                var answer = (await socket.Next())!;
                if ((string?)answer["requestId"] == "r")
                {
                    return (string)answer["kind"]! == "done" ? "done" : ((string)answer["problem"]!["type"]!).Split(':')[^1];
                }
            }
        }
        (await Renew(Newer("teo"))).ShouldBe("token-of-another-user");
        (await Renew("nonsense")).ShouldBe("token-malformed");
        (await Renew(
            TestTokens.Make(timed.Secret, "mara",
            change: c =>
            (c["iat"], c["exp"]) =
            (DateTimeOffset.UtcNow.ToUnixTimeSeconds() - 100, clock.GetUtcNow().ToUnixTimeSeconds() + 60)))).ShouldBe("token-older");
        (await Renew(Newer("mara", "engineer"))).ShouldBe("done"); // and a role less
        await timed.Send("role:bridge", "Not for mara any more");
        await timed.Send("role:engineer", "For mara");
        ((string)(await socket.Next("notification"))["title"]!).ShouldBe("For mara");
        var session = (string)(await timed.Get("/v1/sessions", timed.Key)).Json!["sessions"]!.AsArray()
            .First(x => (string)x!["device"]! == "phone")!["session"]!;
        (await timed.Post($"/v1/live/{session}?ticket={ticket}", null,
            $$"""{"kind":"renew","token":"{{Newer("mara", "engineer")}}"}""")).Status.ShouldBe(204);
        clock.Advance(TimeSpan.FromMinutes(10));
        await timed.Send("user:mara", "Still there");
        foreach (RawConnection live in new RawConnection[] { socket, events })
        {
            JsonObject message;
            do message = (await live.Next())!;
            while ((string)message["kind"]! == "notification" && (string)message["title"]! != "Still there"
            || (string)message["kind"]! is "channels" or "totals");
            ((string)message["kind"]!, (string?)message["title"]).ShouldBe(("notification", "Still there"));
        }
        events.Cut();
        using var back = await timed.Events(null, $"?ticket={ticket}&device=phone"); // its ticket stands for the newer token
        await back.Next("current");
        clock.Advance(TimeSpan.FromMinutes(61));
        ((string)(await socket.Next("ending"))["reason"]!).ShouldBe("token-expired");
    }

    [Fact]
    public async Task The_console_lets_in_by_the_link_once_then_by_password_and_only_from_its_own_page()
    {
        (string, string) own = ("X-Rovett-Console", "1");
        var link = s.Service.ConsoleLink!;
        (await s.Get("/console/api/live", null)).Problem.ShouldBe("not-signed-in");
        var body = $$"""{"name":"ruth","password":"a long password","link":"{{link}}"}""";
        (await s.Post("/console/api/sign-up", null, body)).Problem.ShouldBe("foreign-page");
        (await s.Post("/console/api/sign-up", null, body.Replace(link, "guess"), own)).Problem.ShouldBe("link-ended");
        (await s.Post("/console/api/sign-up", null, body.Replace("a long password", "short"), own)).Problem.ShouldBe("invalid-fields");
        var up = await s.Post("/console/api/sign-up", null, body, own);
        up.Status.ShouldBe(204);
        var cookie = up.Headers.GetValues("Set-Cookie").Single();
        cookie.ShouldContain("httponly", Case.Insensitive);
        cookie.ShouldContain("samesite=strict", Case.Insensitive);
        (await s.Post("/console/api/sign-up", null, body, own)).Problem.ShouldBe("link-ended");
        for (int i = 0; i < 5; i++)
        {
            (await s.Post("/console/api/sign-in", null, """{"name":"ruth","password":"wrong"}""", own)).Problem.ShouldBe("sign-in-failed");
        }
        var throttled = await s.Post("/console/api/sign-in", null, """{"name":"ruth","password":"a long password"}""", own);
        (throttled.Status, throttled.Problem).ShouldBe((429, "too-many-sign-ins"));
        var me = await s.Call(HttpMethod.Get, "/console/api/me", null, null, ("Cookie", cookie.Split(';')[0]));
        ((string?)me.Json!["operator"]).ShouldBe("ruth");
    }
}
