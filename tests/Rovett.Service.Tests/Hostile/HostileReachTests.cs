using System.Text.RegularExpressions;
using Rovett.Testing;
using Shouldly;
using Xunit;

namespace Rovett.Service.Tests.Hostile;

/// <summary>Reaching for what is another's: inbox, receipts, cursor, session, ids; with another space's credentials, with keys that
/// are too narrow, from pages of other origins.</summary>
public sealed class HostileReachTests(HostileGround ground) : IClassFixture<HostileGround>
{
    static readonly Dictionary<string, (string Method, Func<HostileGround, string> Path, Func<HostileGround, string?> Credential, Func<HostileGround, string?> Body)> Reaches = new()
    {
        // Teo, with a right token of his own.
        ["another's notification by its id"] = ("GET", g => "/v1/inbox/" + g.Ids[0], g => g.Teo, _ => null),
        ["a role's notification by its id"] = ("GET", g => "/v1/inbox/" + g.Ids[1], g => g.Teo, _ => null),
        ["a topic's notification by its id"] = ("GET", g => "/v1/inbox/" + g.Ids[2], g => g.Teo, _ => null),
        ["marking another's read by id"] = ("POST", _ => "/v1/inbox/marks", g => g.Teo, g => $$$"""{"read":{"ids":["{{{g.Ids[0]}}}"]}}"""),
        ["marking another's unread by id"] =
            ("POST", _ => "/v1/inbox/marks", g => g.Teo, g => $$$"""{"unread":{"ids":["{{{g.Ids[1]}}}"]}}"""),
        ["marking another's received by id"] =
            ("POST", _ => "/v1/inbox/marks", g => g.Teo, g => $$$"""{"received":{"ids":["{{{g.Ids[2]}}}"]}}"""),
        ["taking over what one does not see"] = ("POST", g => $"/v1/inbox/{g.Ids[1]}/take", g => g.Teo, _ => "{}"),
        ["releasing what one does not see"] = ("POST", g => $"/v1/inbox/{g.Ids[1]}/release", g => g.Teo, _ => "{}"),
        ["posting to another's session"] =
            ("POST", g => "/v1/live/" + g.StreamSession, g => g.Teo, _ => """{"kind":"markRead","all":true}"""),
        ["posting to another's WebSocket session"] =
            ("POST", g => "/v1/live/" + g.LiveSession, g => g.Teo, _ => """{"kind":"markRead","all":true}"""),
        ["a notification's receipts, as a user"] = ("GET", g => "/v1/notifications/" + g.Ids[0], g => g.Teo, _ => null),
        ["withdrawing as a user"] = ("DELETE", g => "/v1/notifications/" + g.Ids[0], g => g.Teo, _ => null),
        ["sending as a user"] = ("POST", _ => "/v1/notifications", g => g.Teo, _ => """{"to":["user:mara"],"type":"t","title":"x"}"""),
        ["the receipts' stream, as a user"] = ("GET", _ => "/v1/receipts", g => g.Teo, _ => null),
        ["the directory, as a user"] = ("GET", _ => "/v1/users/mara", g => g.Teo, _ => null),
        ["giving oneself a role"] = ("PUT", _ => "/v1/users/teo", g => g.Teo, _ => """{"roles":["engineer"]}"""),
        ["signing another out"] = ("POST", _ => "/v1/users/mara/sign-out", g => g.Teo, _ => "{}"),
        ["erasing another"] = ("DELETE", _ => "/v1/users/mara", g => g.Teo, _ => null),
        ["giving oneself a grant"] =
            ("POST", _ => "/v1/grants", g => g.Teo, _ => """{"user":"teo","topic":"berth/3","may":["subscribe"]}"""),
        ["loading policies as a user"] = ("PUT", _ => "/v1/policies", g => g.Teo, _ => """{"policies":[]}"""),
        ["reading policies as a user"] = ("GET", _ => "/v1/policies", g => g.Teo, _ => null),
        ["explaining as a user"] = ("GET", _ => "/v1/explain?user=mara&on=topic:berth/3", g => g.Teo, _ => null),
        ["who is connected, as a user"] = ("GET", _ => "/v1/sessions", g => g.Teo, _ => null),
        ["another's inbox, as a user"] = ("GET", _ => "/v1/inboxes?user=mara", g => g.Teo, _ => null),
        ["who is on a channel, as a user"] = ("GET", _ => "/v1/channels?address=role:engineer", g => g.Teo, _ => null),
        ["what the meters counted, as a user"] = ("GET", _ => "/v1/meters", g => g.Teo, _ => null),
        ["events, as a user"] = ("GET", _ => "/v1/events", g => g.Teo, _ => null),
        ["the other space's key reading an inbox here"] = ("GET", _ => "/v1/inboxes?user=mara", g => g.HarbourKey, _ => null),
        ["the trail, as a user"] = ("GET", _ => "/v1/audit", g => g.Teo, _ => null),
        ["making a key as a user"] = ("POST", _ => "/v1/keys", g => g.Teo, _ => """{"name":"x","scopes":["admin"]}"""),
        ["making a space as a user"] = ("POST", _ => "/v1/spaces", g => g.Teo, _ => """{"name":"x"}"""),
        // The space harbour, with right credentials of its own.
        ["the other space's notification by its id"] =
            ("GET", g => "/s/harbour/v1/inbox/" + g.Ids[0], g => TestTokens.Make(g.HarbourSecret, "mara"), _ => null),
        ["the other space's receipts by id"] = ("GET", g => "/s/harbour/v1/notifications/" + g.Ids[0], g => g.HarbourKey, _ => null),
        ["withdrawing the other space's"] = ("DELETE", g => "/s/harbour/v1/notifications/" + g.Ids[0], g => g.HarbourKey, _ => null),
        ["the other space's key on this one's paths"] = ("GET", g => "/v1/notifications/" + g.Ids[0], g => g.HarbourKey, _ => null),
        ["the other space's key sending here"] =
            ("POST", _ => "/v1/notifications", g => g.HarbourKey, _ => """{"to":["user:mara"],"type":"t","title":"x"}"""),
        ["the other space's key loading policies here"] = ("PUT", _ => "/v1/policies", g => g.HarbourKey, _ => """{"policies":[]}"""),
        ["the other space's key removing this one"] = ("DELETE", _ => "/v1/spaces/main", g => g.HarbourKey, _ => null),
        ["posting to a session of this space from the other"] =
            ("POST", g => "/s/harbour/v1/live/" + g.StreamSession, g => TestTokens.Make(g.HarbourSecret, "mara"),
            _ => """{"kind":"markRead","all":true}"""),
        ["a space that is none"] = ("GET", _ => "/s/nowhere/v1/inbox", g => g.Mara, _ => null),
        ["a path out of a space"] =
            ("GET", _ => "/s/harbour%2f..%2fmain/v1/inbox", g => TestTokens.Make(g.HarbourSecret, "mara"), _ => null),
        // Keys that are too narrow, or none.
        ["no key"] = ("GET", g => "/v1/notifications/" + g.Ids[0], _ => null, _ => null),
        ["a guessed key"] = ("GET", g => "/v1/notifications/" + g.Ids[0], g => g.S.Key[..^4] + "AAAA", _ => null),
        ["a key cut by one"] = ("GET", g => "/v1/notifications/" + g.Ids[0], g => g.S.Key[..^1], _ => null),
        ["a revoked key"] = ("GET", g => "/v1/notifications/" + g.Ids[0], g => g.RevokedKey, _ => null),
        ["a key that only sends reads"] = ("GET", g => "/v1/notifications/" + g.Ids[0], g => g.NarrowKey, _ => null),
        ["a key that only reads sends"] =
            ("POST", _ => "/v1/notifications", g => g.ReadKey, _ => """{"to":["user:mara"],"type":"t","title":"x"}"""),
        ["a key that only reads withdraws"] = ("DELETE", g => "/v1/notifications/" + g.Ids[0], g => g.ReadKey, _ => null),
        ["a key that only reads loads policies"] = ("PUT", _ => "/v1/policies", g => g.ReadKey, _ => """{"policies":[]}"""),
        ["a key that only reads grants"] =
            ("POST", _ => "/v1/grants", g => g.ReadKey, _ => """{"user":"teo","topic":"berth/3","may":["subscribe"]}"""),
        ["a key that only reads sets a decider"] =
            ("PUT", _ => "/v1/deciders/x", g => g.ReadKey, _ => """{"url":"https://backend.example/"}"""),
        ["a narrow key sends another type"] =
            ("POST", _ => "/v1/notifications", g => g.NarrowKey, _ => """{"to":["role:deckhand"],"type":"engine.alarm","title":"x"}"""),
        ["a narrow key sends to another role"] =
            ("POST", _ => "/v1/notifications", g => g.NarrowKey, _ => """{"to":["role:engineer"],"type":"progress.a","title":"x"}"""),
        ["a narrow key sends to a role whose name begins alike"] =
            ("POST", _ => "/v1/notifications", g => g.NarrowKey, _ => """{"to":["role:deckhands"],"type":"progress.a","title":"x"}"""),
        ["a narrow key sends to one right and one wrong address"] =
            ("POST", _ => "/v1/notifications", g => g.NarrowKey,
            _ => """{"to":["role:deckhand","everyone"],"type":"progress.a","title":"x"}"""),
        ["a narrow key sends to another topic"] =
            ("POST", _ => "/v1/notifications", g => g.NarrowKey, _ => """{"to":["topic:berth/3"],"type":"progress.a","title":"x"}"""),
        ["a narrow key goes around by a deadline"] =
            ("POST", _ => "/v1/notifications", g => g.NarrowKey,
            _ => """{"to":["role:deckhand"],"type":"progress.a","title":"x","deadlines":[{"by":"read","within":"PT1M","otherwise":{"to":["user:mara"],"type":"progress.a","title":"x"}}]}"""),
        // The service's own insides.
        ["a file beside the console"] = ("GET", _ => "/console/../../access.db", _ => null, _ => null),
        ["a file beside the console, encoded"] = ("GET", _ => "/console/..%2f..%2faccess.db", _ => null, _ => null),
        ["a file by its whole name"] = ("GET", _ => "/console//etc/passwd", _ => null, _ => null),
        ["an unknown path"] = ("GET", _ => "/v1/everything", g => g.S.Key, _ => null),
        ["an unknown method"] = ("PATCH", g => "/v1/inbox/" + g.Ids[0], g => g.Teo, _ => "{}"),
        ["a body that is too large"] = ("POST", _ => "/v1/notifications", g => g.S.Key, _ => new string(' ', 300_000)),
        ["a body nested too deep"] =
            ("POST", _ => "/v1/notifications", g => g.S.Key,
            _ => string.Concat(Enumerable.Repeat("[", 100)) + string.Concat(Enumerable.Repeat("]", 100))),
    };

    public static TheoryData<string> Names => [.. Reaches.Keys];

    [Theory, MemberData(nameof(Names))]
    public async Task What_is_anothers_is_refused_and_stays_as_it_was(string what)
    {
        var (method, path, credential, body) = Reaches[what];
        ground.Refuses(await ground.S.Call(new HttpMethod(method), path(ground), credential(ground), body(ground)), what);
        (await ground.S.Get("/v1/notifications/" + ground.Ids[0], ground.S.Key)).Status.ShouldBe(200, what);
        await ground.MaraIsUntouched(what);
    }

    static readonly Dictionary<string, Func<HostileGround, string>> Messages = new()
    {
        ["acknowledging another's id"] = g => $$"""{"kind":"ack","ids":["{{g.Ids[0]}}"],"requestId":"r"}""",
        ["wanting another's again"] = g => $$"""{"kind":"ack","again":true,"ids":["{{g.Ids[0]}}"],"requestId":"r"}""",
        ["marking another's read"] = g => $$"""{"kind":"markRead","ids":["{{g.Ids[0]}}"],"requestId":"r"}""",
        ["marking another's unread"] = g => $$"""{"kind":"markUnread","ids":["{{g.Ids[1]}}"],"requestId":"r"}""",
        ["taking another's"] = g => $$"""{"kind":"take","id":"{{g.Ids[1]}}","requestId":"r"}""",
        ["releasing another's"] = g => $$"""{"kind":"release","id":"{{g.Ids[1]}}","requestId":"r"}""",
        ["renewing with another's token"] = g => $$"""{"kind":"renew","token":"{{g.Mara}}","requestId":"r"}""",
        ["renewing with an older token of one's own"] = g => $$"""{"kind":"renew","token":"{{TestTokens.Make(g.S.Secret, "teo", ["engineer"], change: c => c["iat"] = (double)c["iat"] - 1000)}}","requestId":"r"}""",
        ["a cursor of another space"] = g => $$"""{"kind":"ack","upTo":"{{g.HarbourCursor}}","requestId":"r"}""",
        ["marking up to a cursor of another space"] = g => $$"""{"kind":"markRead","upTo":"{{g.HarbourCursor}}","requestId":"r"}""",
    };

    public static TheoryData<string> MessageNames => [.. Messages.Keys];

    [Theory, MemberData(nameof(MessageNames))]
    public async Task A_message_that_reaches_for_anothers_is_refused_in_ones_own_session(string what)
    {
        using var live = await ground.S.WebSocket(ground.Teo);
        await live.Next("current");
        await live.Text(Messages[what](ground));
        ((string)(await live.Next("refused"))["requestId"]!).ShouldBe("r");
        await ground.HearsNothing(live, "teo", what);
        await ground.MaraIsUntouched(what);
    }

    static readonly string[] Cursors = ["mara's", "harbour's", "a receipts'", "a page's", "guessed"];

    public static TheoryData<string, string> Resumes
    {
        get
        {
            var data = new TheoryData<string, string>();
            foreach (var cursor in Cursors)
            {
                foreach (var way in new[] { "after", "Last-Event-ID" }) data.Add(cursor, way);
            }
            return data;
        }
    }

    [Theory, MemberData(nameof(Resumes))]
    public async Task A_cursor_grants_nothing_whosever_it_is(string whose, string way)
    {
        var s = ground.S;
        var cursor = whose switch
        {
            "mara's" => ground.MarasCursor,
            "harbour's" => ground.HarbourCursor,
            "a receipts'" => (string)(await s.Get("/v1/receipts", s.Key)).Json!["cursor"]!,
            "a page's" =>
                Regex.Match((await s.Get("/v1/inbox?limit=1", ground.Mara)).Headers.GetValues("Link").Single(),
                "page=([^&>]+)").Groups[1].Value,
            _ => "AAAAAAAAAAAAAAAAAAAAAA",
        };
        using var live = way == "after" ? await s.Events(ground.Teo, "?after=" + cursor)
            : await s.Events(ground.Teo, "", "Last-Event-ID: " + cursor);
        live.Status.ShouldBe(200);
        await ground.HearsNothing(live, "teo", $"{whose} {way}");
        await ground.MaraIsUntouched(whose);
    }

    static readonly string[] ForeignOrigins =
    [
        "https://evil.example", "null", "http://crew.example", "https://crew.example.", "https://crew.example:444",
            "https://sub.crew.example", "https://crew.example.evil.example", "https://evilcrew.example",
        "https://crew.example@evil.example", "https://evil.example/https://crew.example", "https://CREW.example", "https://crew.example/",
            "file://", "https://127.0.0.1", "https://crew.example https://evil.example", "ws://crew.example",
    ];

    public static TheoryData<string, string> Pages
    {
        get
        {
            var data = new TheoryData<string, string>();
            foreach (var origin in ForeignOrigins)
            {
                foreach (var way in new[] { "websocket", "stream", "post", "inbox", "send", "preflight" }) data.Add(origin, way);
            }
            return data;
        }
    }

    [Theory, MemberData(nameof(Pages))]
    public async Task A_page_of_another_origin_is_refused_even_with_the_right_credential(string origin, string way)
    {
        var s = ground.S;
        if (way == "websocket")
        {
            using var socket = await s.WebSocket(ground.Mara, "", "Origin: " + origin);
            socket.Status.ShouldBe(403);
            socket.Head.ShouldNotContain("Access-Control-Allow-Origin", Case.Insensitive);
            return;
        }
        (string, string) header = ("Origin", origin);
        var answer = way switch
        {
            "stream" => await s.Call(HttpMethod.Get, "/v1/live", ground.Mara, null, header, ("Accept", "text/event-stream")),
            "post" => await s.Post("/v1/live/" + ground.StreamSession, ground.Mara, """{"kind":"markRead","all":true}""", header),
            "inbox" => await s.Call(HttpMethod.Get, "/v1/inbox", ground.Mara, null, header),
            "send" => await s.Post("/v1/notifications", s.Key, """{"to":["user:mara"],"type":"t","title":"x"}""", header),
            _ => await s.Call(HttpMethod.Options, "/v1/inbox", null, null, header, ("Access-Control-Request-Method", "GET"),
                ("Access-Control-Request-Headers", "authorization")),
        };
        ground.Refuses(answer, $"{origin} {way}");
        (answer.Status, answer.Headers.Contains("Access-Control-Allow-Origin")).ShouldBe((403, false));
        (await s.Get("/v1/status", s.Key)).Text.ShouldContain("originsRefused");
        await ground.MaraIsUntouched(origin);
    }
}
