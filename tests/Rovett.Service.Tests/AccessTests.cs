using System.Text;
using Rovett.Testing;
using Shouldly;
using Xunit;

namespace Rovett.Service.Tests;

public sealed class AccessTests : IAsyncLifetime
{
    ServiceUnderTest s = null!;

    public async ValueTask InitializeAsync() => s = await ServiceUnderTest.Start(o => (o.Spaces, o.Origins) = (["harbour"], ["https://crew.example"]));
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
            ((string)answer.Json!["mend"]!).ShouldNotBeEmpty();
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
        using (var first = await s.Events(null, $"?ticket={ticket}&device=phone", "Origin: https://crew.example")) await first.Next("current");
        using (var again = await s.Events(null, $"?ticket={ticket}&device=phone", "Origin: https://crew.example")) await again.Next("opened");
        (await s.Get($"/v1/live?ticket={ticket}&device=tablet", null)).Problem.ShouldBe("ticket-of-another-device");
        (await s.Get($"/v1/live?ticket={ticket}&device=phone", null)).Problem.ShouldBe("ticket-of-another-device");
        await s.Restart();
        using (var later = await s.Events(null, $"?ticket={ticket}&device=phone", "Origin: https://crew.example")) ((string)(await later.Next("opened"))["device"]!).ShouldBe("phone");
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
        foreach (var path in new[] { "/v1/live", "/v1/inbox" }) (await s.Call(HttpMethod.Get, path, token, null, ("Origin", origin))).Problem.ShouldBe("origin-refused");
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
        var preflight = await s.Call(HttpMethod.Options, "/v1/inbox", null, null, ("Origin", "https://crew.example"), ("Access-Control-Request-Method", "GET"));
        preflight.Status.ShouldBe(204);
        preflight.Headers.GetValues("Access-Control-Allow-Headers").Single().ShouldContain("Authorization");
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
        for (int i = 0; i < 5; i++) (await s.Post("/console/api/sign-in", null, """{"name":"ruth","password":"wrong"}""", own)).Problem.ShouldBe("sign-in-failed");
        var throttled = await s.Post("/console/api/sign-in", null, """{"name":"ruth","password":"a long password"}""", own);
        (throttled.Status, throttled.Problem).ShouldBe((429, "too-many-sign-ins"));
        var me = await s.Call(HttpMethod.Get, "/console/api/me", null, null, ("Cookie", cookie.Split(';')[0]));
        ((string?)me.Json!["operator"]).ShouldBe("ruth");
    }
}
