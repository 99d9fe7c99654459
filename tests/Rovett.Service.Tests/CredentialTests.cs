using System.Net.Sockets;
using System.Text;
using System.Text.Json;
using System.Text.Json.Nodes;
using Rovett.Testing;
using Shouldly;
using Xunit;

namespace Rovett.Service.Tests;

/// <summary>What gets past nobody: withdrawn keys, sessions that have ended, cursors of one's own making, tokens of the
/// near future, odd paths and names.</summary>
public sealed class CredentialTests
{
    static async Task<string> Verdict(ServiceUnderTest s, string token, string path = "/v1/inbox/totals")
    {
        var answer = await s.Get(path, token);
        return answer.Status == 200 ? "in" : answer.Problem!;
    }

    static JsonObject ForFerries(string user)
    {
        var claims = TokenMaker.Claims(user);
        claims["aud"] = "ferries";
        return claims;
    }

    [Fact]
    public async Task A_key_that_is_withdrawn_from_its_set_lets_nobody_in_and_its_sessions_end()
    {
        var clock = new TestClock();
        await using var s = await ServiceUnderTest.Start(clock: clock);
        using TokenMaker stays = new(), goes = new();
        var keys = Directory.CreateDirectory(Path.Combine(s.Folder, "keys")).FullName;
        var file = Path.Combine(keys, "idp.json");
        await File.WriteAllTextAsync(file, $$"""{"keys":[{{stays.Jwk("ES256", "stays")}},{{goes.Jwk("ES256", "goes")}}]}""");
        (await s.Call(HttpMethod.Patch, "/v1/settings", s.Key, """{"tokens":{"audiences":["ferries"]}}""")).Status.ShouldBe(200);
        (await s.Post("/v1/signing-keys", s.Key, """{"name":"idp","keySet":"file:idp.json"}""")).Status.ShouldBe(201);
        string staying = stays.Sign("ES256", ForFerries("mara"), "stays"), going = goes.Sign("ES256", ForFerries("teo"), "goes");
        var ticket = (string)(await s.Post("/v1/tickets", going, "{}")).Json!["ticket"]!;
        using (var stream = await s.Events(null, $"?ticket={ticket}&device=phone")) await stream.Next("current");
        using var live = await s.WebSocket(going);
        using var events = await s.Events(going);
        using var other = await s.WebSocket(staying);
        foreach (RawConnection session in new RawConnection[] { live, events, other }) await session.Next("current");

        await File.WriteAllTextAsync(file, $$"""{"keys":[{{stays.Jwk("ES256", "stays")}}]}""");
        File.SetLastWriteTimeUtc(file, DateTime.UtcNow.AddSeconds(5));
        (await Verdict(s, going)).ShouldBe("token-signature"); // though it was verified before
        foreach (RawConnection session in new RawConnection[] { live, events })
        {
            ((string)(await session.Next("ending"))["reason"]!).ShouldBe("signing-key-removed");
        }
        (await s.Get($"/v1/live?ticket={ticket}&device=phone", null)).Problem.ShouldBe("ticket-key-removed");
        using (var again = await s.WebSocket(going)) again.Status.ShouldBe(401);
        (await Verdict(s, staying)).ShouldBe("in");
        await s.Send("user:mara");
        await other.Next("notification");
        (await s.Get("/v1/audit", s.Key)).Text.ShouldContain("signing-key.withdrawn");
        await s.Restart();
        (await s.Get($"/v1/live?ticket={ticket}&device=phone", null)).Problem.ShouldBe("ticket-key-removed");
    }

    [Fact]
    public async Task A_withdrawn_key_ends_its_sessions_though_nobody_asks()
    {
        var clock = new TestClock();
        await using var s = await ServiceUnderTest.Start(clock: clock);
        using var goes = new TokenMaker();
        var file = Path.Combine(Directory.CreateDirectory(Path.Combine(s.Folder, "keys")).FullName, "idp.json");
        await File.WriteAllTextAsync(file, $$"""{"keys":[{{goes.Jwk("RS256", "goes")}}]}""");
        (await s.Call(HttpMethod.Patch, "/v1/settings", s.Key, """{"tokens":{"audiences":["ferries"]}}""")).Status.ShouldBe(200);
        (await s.Post("/v1/signing-keys", s.Key, """{"name":"idp","keySet":"file:idp.json"}""")).Status.ShouldBe(201);
        using var live = await s.WebSocket(goes.Sign("RS256", ForFerries("teo"), "goes"));
        await live.Next("current");
        await File.WriteAllTextAsync(file, """{"keys":[]}""");
        File.SetLastWriteTimeUtc(file, DateTime.UtcNow.AddSeconds(5));
        var ending = live.Next("ending");
        ((string)(await ending)["reason"]!).ShouldBe("signing-key-removed");
    }

    [Fact]
    public async Task A_device_of_a_blocked_user_that_does_not_read_does_nothing_any_more()
    {
        await using var s = await ServiceUnderTest.Start();
        (await s.Call(HttpMethod.Put, "/v1/policies", s.Key,
            """{"policies":[{"name":"all","topic":"{any...}","may":["subscribe","follow","say"],"when":{"anyone":true}}]}""")).Status.ShouldBe(200);
        var job = (string)(await s.Post("/v1/notifications", s.Key,
            """{"to":["role:engineer"],"type":"t","title":"t","takeable":true}""")).Json!["id"]!;
        var token = s.Token("mara", "engineer");
        using var stuck = await s.WebSocket(token);
        using var events = await s.Events(token);
        var session = (string)(await events.Next("opened"))["session"]!;
        await stuck.Next("current");
        // It is sent so much that its connection can't close, for it reads nothing.
        var filler = new string('x', 3_900);
        for (int i = 0; i < 1500; i++)
        {
            (await s.Post("/v1/notifications", s.Key,
                $$"""{"to":["user:mara"],"type":"t","title":"t","body":"{{filler}}"}""")).Status.ShouldBe(201);
        }
        (await s.Call(HttpMethod.Put, "/v1/users/mara", s.Key, """{"blocked":true}""")).Status.ShouldBe(200);
        string[] acts = ["""{"kind":"markRead","all":true}""", $$"""{"kind":"take","id":"{{job}}"}""",
            """{"kind":"follow","topic":"berth/3"}"""];
        foreach (var act in acts)
        {
            await stuck.Text(act);
            (await s.Post("/v1/live/" + session, token, act)).Status.ShouldBeOneOf(204, 401, 403, 404);
        }
        foreach (var (path, body) in new[] { ("/v1/inbox/marks", """{"read":{"all":true}}"""), ($"/v1/inbox/{job}/take", "{}"),
            ("/v1/follows", """{"topic":"berth/3"}"""), ("/v1/mutes", """{"type":"t"}""") })
            (await s.Post(path, token, body)).Problem.ShouldBe("user-blocked", path);
        // Whatever was to come of it has come once another's send is answered.
        await s.Send("user:ivo");
        await Task.WhenAll(Enumerable.Range(0, 20).Select(_ => s.Send("user:ivo")));
        (await s.Call(HttpMethod.Put, "/v1/users/mara", s.Key, """{"blocked":false}""")).Status.ShouldBe(200);
        var now = s.Token("mara", "engineer");
        (await s.Totals(now)).Unread.ShouldBe(1501);
        (await s.Get("/v1/follows", now)).Json!["follows"]!.AsArray().ShouldBeEmpty();
        (await s.Get("/v1/notifications/" + job, s.Key)).Json!["taken"].ShouldBeNull();
    }

    [Theory]
    [InlineData("grant")]
    [InlineData("role")]
    [InlineData("claim")]
    [InlineData("policy")]
    public async Task A_subscription_is_caught_up_from_where_its_right_began_whatever_cursor_is_shown(string by)
    {
        await using var s = await ServiceUnderTest.Start();
        string Policy(string when) => $$"""{"policies":[{"name":"p","topic":"berth/{n}","may":["subscribe"],"when":{{when}}}]}""";
        Task<Answer> Load(string when) => s.Call(HttpMethod.Put, "/v1/policies", s.Key, Policy(when));
        (await Load(
            by switch
            {
                "role" => """{"role":"harbour-desk"}""",
                "claim" => """{"claims":{"berth":"{n}"}}""",
                _ => """{"role":"nobody"}"""
            })).Status.ShouldBe(200);
        string Token(bool entitled) =>
            TestTokens.Make(s.Secret, "pia", entitled && by == "role" ? ["harbour-desk"] : ["deckhand"],
            change: c => c["berth"] = entitled && by == "claim" ? "3" : "none");
        string old;
        using (var early = await s.WebSocket(Token(false)))
        {
            old = (string)(await early.Next("current"))["cursor"]!;
            for (int i = 0; i < 30; i++) await s.Send("topic:berth/3", $"before {i}");
        }
        if (by == "grant")
        {
            (await s.Post("/v1/grants", s.Key, """{"user":"pia","topic":"berth/3","may":["subscribe"]}""")).Status.ShouldBe(201);
        }
        if (by == "policy") (await Load("""{"role":"deckhand"}""")).Status.ShouldBe(200);
        var token = Token(true);
        (await s.Get("/v1/inbox", token)).Status.ShouldBe(200); // the right begins, at the latest
        for (int i = 0; i < 3; i++) await s.Send("topic:berth/3", $"after {i}");
        // Which changes nothing for pia.
        if (by is "role" or "policy") (await Load("""{"role":["harbour-desk","deckhand"]}""")).Status.ShouldBe(200);
        foreach (var cursor in new[] { old, "AAAAAAAAAAAAAAAAAAAAAA", "AU4nlV6MeTAePgkTki68jQ", "_____________________w" })
        {
            using var live = await s.WebSocket(token);
            await live.Next("current");
            await live.Text($$"""{"kind":"subscribe","topic":"berth/3","after":"{{cursor}}","requestId":"1"}""");
            var titles = new List<string>();
            for (; ; )
            {
                var next = (await live.Next())!;
                if ((string?)next["requestId"] == "1") break;
                if ((string)next["kind"]! == "notification") titles.Add((string)next["title"]!);
            }
            titles.ShouldAllBe(t => t.StartsWith("after "), cursor);
            if (cursor == old) titles.ShouldBe(["after 0", "after 1", "after 2"]); // and what is its own it gets
        }
    }

    [Fact]
    public async Task A_token_of_the_near_future_counts_from_when_it_is_first_shown()
    {
        await using var s = await ServiceUnderTest.Start();
        string Ahead(double seconds) => TestTokens.Make(s.Secret, "mara", change: c => c["iat"] = (double)c["iat"] + seconds);
        var ahead = new[] { Ahead(3), Ahead(29) };
        var ticket = (string)(await s.Post("/v1/tickets", ahead[0], "{}")).Json!["ticket"]!;
        (await Verdict(s, ahead[1])).ShouldBe("in");
        (await s.Post("/v1/users/mara/sign-out", s.Key, "")).Status.ShouldBe(200);
        async Task Out()
        {
            foreach (var token in ahead) (await Verdict(s, token)).ShouldBe("signed-out");
            (await s.Post("/v1/tickets", ahead[0], "{}")).Problem.ShouldBe("signed-out");
        }
        await Out();
        using (var socket = await s.WebSocket(null,
            $"?ticket={ticket}")) ((string)(await socket.Next("refused"))["problem"]!["type"]!).ShouldEndWith("signed-out");
        (await Verdict(s, s.Token("mara"))).ShouldBe("in"); // a fresh one, made by a clock that is right
        await s.Restart();
        await Out();
        (await Verdict(s, Ahead(2))).ShouldBe("in");
    }

    [Fact]
    public async Task A_space_s_own_origins_hold_however_its_path_is_written()
    {
        await using var s = await ServiceUnderTest.Start(o => (o.Spaces, o.Origins) = (["harbour"], ["https://everywhere.example"]));
        var key = s.Credentials["harbour"].AdminKey;
        (await s.Call(HttpMethod.Patch, "/s/harbour/v1/settings", key, """{"origins":["https://harbour.example"]}""")).Status.ShouldBe(200);
        foreach (var (path, status) in new[] { ("/s/harbour/v1/status", 403), ("/S/harbour/v1/status", 404), ("/S/HARBOUR/v1/status", 404),
            ("/s/harbour/V1/status", 404), ("/s/%68arbour/v1/status", 403), ("/%73/harbour/v1/status", 403) })
            (await s.Call(HttpMethod.Get, path, key, null, ("Origin", "https://everywhere.example"))).Status.ShouldBe(status, path);
        (await s.Call(HttpMethod.Get, "/s/harbour/v1/status", key, null, ("Origin", "https://harbour.example"))).Status.ShouldBe(200);
        (await s.Call(HttpMethod.Get, "/v1/status", s.Key, null, ("Origin", "https://harbour.example"))).Status.ShouldBe(403);
        (await s.Call(HttpMethod.Get, "/s/harbour/console/api/me", null)).Status.ShouldBe(404);
    }

    [Fact]
    public async Task A_narrowed_key_replaces_nothing_in_a_slot_that_it_could_not_have_sent()
    {
        await using var s = await ServiceUnderTest.Start();
        var narrow =
            (string)(await s.Post("/v1/keys", s.Key, """{"name":"weather","scopes":["send"],"types":["weather.*"]}""")).Json!["key"]!;
        Task<Answer> Send(string key, string type, string query = "") =>
            s.Post("/v1/notifications" + query, key, $$"""{"to":["everyone"],"type":"{{type}}","title":"{{type}}","slot":"latest"}""");
        var other = (string)(await Send(s.Key, "sailing.delayed")).Json!["id"]!;
        foreach (var query in new[] { "", "?dryRun=true" })
        {
            var refused = await Send(narrow, "weather.warning", query);
            (refused.Status, refused.Problem, (string)refused.Json!["errors"]![0]!["field"]!).ShouldBe((403, "api-key-narrowed", "slot"));
        }
        ((string)(await s.Get("/v1/notifications/" + other, s.Key)).Json!["timeline"]!.AsArray()[^1]!["state"]!).ShouldBe("stored");
        (await s.Call(HttpMethod.Delete, "/v1/notifications/" + other, s.Key)).Status.ShouldBe(200);
        (await Send(narrow, "weather.warning")).Status.ShouldBe(201); // nobody stands there any more
        (await Send(narrow, "weather.over")).Status.ShouldBe(201); // its own it may replace
        (await Send(s.Key, "sailing.delayed")).Status.ShouldBe(201);
    }

    public static TheoryData<string> OddNames =>
        ["a%2Fb", ".", "..", "%2e%2e", "a?b#c", "Ä Ö", "%", "+", "café\u0301x", "мара", "a\\b", "a;b"];

    [Theory]
    [MemberData(nameof(OddNames))]
    public async Task Every_id_that_comes_in_can_be_administered(string id)
    {
        await using var s = await ServiceUnderTest.Start();
        var json = JsonSerializer.Serialize(id);
        var query = "?id=" + Uri.EscapeDataString(id);
        (await Verdict(s, s.Token(id, id))).ShouldBe("in");
        ((string)(await s.Get("/v1/users" + query, s.Key)).Json!["id"]!).ShouldBe(id.Normalize());
        (await s.Call(HttpMethod.Put, "/v1/users" + query, s.Key, """{"blocked":true}""")).Status.ShouldBe(200);
        (await Verdict(s, s.Token(id))).ShouldBe("user-blocked");
        (await s.Call(HttpMethod.Put, "/v1/users", s.Key, $$"""{"id":{{json}},"blocked":false}""")).Status.ShouldBe(200);
        var old = s.Token(id);
        (await s.Post("/v1/users/sign-out" + query, s.Key, "")).Status.ShouldBe(200);
        (await Verdict(s, old)).ShouldBe("signed-out");
        (await s.Call(HttpMethod.Put, "/v1/roles?role=" + Uri.EscapeDataString(id), s.Key, """{"displayName":"odd"}""")).Status.ShouldBe(
            200);
        ((string)(await s.Get("/v1/roles?role=" + Uri.EscapeDataString(id), s.Key)).Json!["displayName"]!).ShouldBe("odd");
        (await s.Call(HttpMethod.Delete, "/v1/users" + query, s.Key)).Status.ShouldBe(200);
        (await s.Get("/v1/users" + query, s.Key)).Status.ShouldBe(404);
        if (id is not ("." or "..")) (await s.Get("/v1/users/" + Uri.EscapeDataString(id), s.Key)).Problem.ShouldBe("unknown-user");
    }

    [Fact]
    public async Task An_id_is_the_same_however_its_accents_are_written()
    {
        await using var s = await ServiceUnderTest.Start();
        const string composed = "Ren\u00e9e", decomposed = "Rene\u0301e";
        (await Verdict(s, s.Token(decomposed))).ShouldBe("in");
        foreach (var id in new[] { composed, decomposed })
        {
            var path = "/v1/users/" + Uri.EscapeDataString(id);
            ((string)(await s.Get(path, s.Key)).Json!["id"]!).ShouldBe(composed);
            (await s.Call(HttpMethod.Put, path, s.Key, """{"blocked":true}""")).Status.ShouldBe(200);
        }
        (await s.Call(HttpMethod.Delete, "/v1/users/" + Uri.EscapeDataString(decomposed), s.Key)).Status.ShouldBe(200);
        (await s.Get("/v1/users/" + Uri.EscapeDataString(composed), s.Key)).Status.ShouldBe(404);
    }

    [Fact]
    public async Task Invisible_characters_are_in_no_id()
    {
        await using var s = await ServiceUnderTest.Start();
        foreach (int rune in new[] { 0x200B, 0x200C, 0x200D, 0x200E, 0x200F, 0x202A, 0x202E, 0x2060, 0x2066, 0x2069, 0xFEFF, 0x00AD, 0x034F,
            0x061C, 0x115F, 0x180E, 0x3164, 0xFE0F, 0xFFA0, 0xE0001, 0xE0100, 0x2028, 0x2029 })
        {
            var id = $"ma{char.ConvertFromUtf32(rune)}ra";
            (await Verdict(s, s.Token(id))).ShouldBe("token-claims", $"U+{rune:X4}");
            (await Verdict(s, s.Token("mara", id))).ShouldBe("token-claims", $"U+{rune:X4}");
            foreach (var to in new[] { "user:" + id, "role:" + id, "topic:" + id })
            {
                var answer = await s.Post("/v1/notifications", s.Key, $$"""{"to":["{{to}}"],"type":"t","title":"t"}""");
                answer.Status.ShouldBe(422, $"U+{rune:X4}");
                answer.Text.ShouldContain($"U+{rune:X4}");
            }
            (await s.Call(HttpMethod.Put, "/v1/users/" + Uri.EscapeDataString(id), s.Key, "{}")).Status.ShouldBe(422, $"U+{rune:X4}");
        }
        foreach (var name in new[] { ".", ".." })
        {
            (await s.Post("/v1/spaces", s.Key, $$"""{"name":"{{name}}"}""")).Status.ShouldBe(422);
            (await s.Post("/v1/signing-keys", s.Key, $$"""{"name":"{{name}}","secret":"{{new string('x', 40)}}"}""")).Status.ShouldBe(422);
        }
    }

    [Fact]
    public async Task Times_at_the_end_of_the_calendar_are_answered_as_any_others()
    {
        await using var s = await ServiceUnderTest.Start();
        foreach (var exp in new object[] { 253402300799, 253402300799.99, 253402300800, 253402200000, 1e18, 1e300, long.MaxValue })
        {
            foreach (var claim in new[] { "exp", "iat", "nbf" })
            {
                (await Verdict(s, TestTokens.Make(s.Secret, "mara", change: c => c[claim] = exp))).ShouldStartWith("token-", Case.Sensitive,
                    $"{claim} {exp}");
            }
        }
        (await s.Get("/v1/status", s.Key)).Json!["bugs"]!.GetValue<long>().ShouldBe(0);
    }

    [Fact]
    public async Task An_import_does_not_reach_into_the_next_space_of_its_name()
    {
        var clock = new TestClock();
        await using var s = await ServiceUnderTest.Start(o => o.Spaces = ["harbour"], clock: clock);
        using var socket = new TcpClient("127.0.0.1", s.Port);
        var stream = socket.GetStream();
        async Task Chunk(string text) =>
            await stream.WriteAsync(Encoding.UTF8.GetBytes($"{Encoding.UTF8.GetByteCount(text):x}\r\n{text}\r\n"));
        await stream.WriteAsync(Encoding.UTF8.GetBytes($"POST /s/harbour/v1/users HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer " +
            $"{s.Credentials["harbour"].AdminKey}\r\nTransfer-Encoding: chunked\r\n\r\n"));
        await Chunk(string.Concat(Enumerable.Range(0, 200).Select(i => $"{{\"id\":\"early-{i}\"}}\n")));
        await Eventually.Holds(
            async () => (await s.Get("/s/harbour/v1/users", s.Credentials["harbour"].AdminKey)).Json!["users"]!.AsArray().Count, n => n > 0,
            "the first batch is stored");
        (await s.Call(HttpMethod.Delete, "/v1/spaces/harbour", s.Key)).Status.ShouldBe(200);
        clock.Advance(TimeSpan.FromSeconds(61));
        var made = await s.Post("/v1/spaces", s.Key, """{"name":"harbour"}""");
        made.Status.ShouldBe(201, made.Text);
        await Chunk(string.Concat(Enumerable.Range(0, 400).Select(i => $"{{\"id\":\"late-{i}\"}}\n")));
        await stream.WriteAsync("0\r\n\r\n"u8.ToArray());
        using var reader = new StreamReader(stream);
        (await reader.ReadLineAsync()).ShouldBe("HTTP/1.1 404 Not Found");
        (await s.Get("/s/harbour/v1/users", (string)made.Json!["credentials"]!["adminKey"]!)).Json!["users"]!.AsArray().ShouldBeEmpty();
    }

    [Fact]
    public async Task What_an_admin_changes_is_in_the_audit_log()
    {
        await using var s = await ServiceUnderTest.Start(o => o.WebhookNetworks = ["127.0.0.0/8"]);
        (await s.Call(HttpMethod.Put, "/v1/roles/harbour-desk", s.Key, """{"presence":"members"}""")).Status.ShouldBe(200);
        (await s.Call(HttpMethod.Put, "/v1/webhooks/backend", s.Key,
            """{"url":"http://127.0.0.1:9/secret-path?secret=canary"}""")).Status.ShouldBe(201);
        (await s.Call(HttpMethod.Delete, "/v1/webhooks/backend", s.Key)).Status.ShouldBe(204);
        (await s.Post("/v1/users", s.Key, "{\"id\":\"pia\"}\n")).Status.ShouldBe(200);
        var trail = await s.Get("/v1/audit", s.Key);
        trail.Json!["acts"]!.AsArray().Select(a => (string)a!["act"]!)
            .ShouldBe(["role.put", "webhook.put", "webhook.removed", "users.imported"]);
        trail.Text.ShouldNotContain("canary");
    }

    [Fact]
    public async Task A_body_without_line_breaks_takes_no_memory()
    {
        await using var s = await ServiceUnderTest.Start();
        using var socket = new TcpClient("127.0.0.1", s.Port);
        var stream = socket.GetStream();
        await stream.WriteAsync(
            Encoding.UTF8.GetBytes(
            $"POST /v1/users HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer {s.Key}\r\nContent-Length: 450000000\r\n\r\n"));
        var chunk = new byte[64 * 1024];
        Array.Fill(chunk, (byte)'x');
        long before = Environment.WorkingSet;
        using var reader = new StreamReader(stream, leaveOpen: true);
        var answer = reader.ReadLineAsync();
        try
        {
            for (int sent = 0; sent < 5000; sent++) await stream.WriteAsync(chunk);
        }
        catch (IOException)
        {
            // It was answered and closed: good too.
        }
        (Environment.WorkingSet - before).ShouldBeLessThan(150_000_000, "bytes more in memory than before, after 320 MB were sent");
        (await answer).ShouldBe("HTTP/1.1 413 Payload Too Large");
        (await s.Post("/v1/users", s.Key, "{\"id\":\"" + new string('x', 70_000) + "\"}\n")).Problem.ShouldBe("line-too-long");
        (await s.Post("/v1/users", s.Key, "{\"id\":\"pia\"}\n" + new string(' ', 70_000))).Problem.ShouldBe("line-too-long");
    }
}
