using System.Security.Cryptography;
using System.Text;
using System.Text.Json.Nodes;
using Rovett.Testing;
using Shouldly;
using Xunit;

namespace Rovett.Service.Tests.Hostile;

/// <summary>Credentials that do not hold: forged, changed, cut, of elsewhere, of another time. Each on the inbox, the
/// stream and the WebSocket.</summary>
public sealed class HostileTokenTests(HostileGround ground) : IClassFixture<HostileGround>
{
    static readonly Dictionary<string, Func<HostileGround, string>> Forgeries = new()
    {
        ["no algorithm"] = g => Unsigned("none"),
        ["no algorithm, spelt otherwise"] = g => Unsigned("nOnE"),
        ["empty algorithm"] = g => Unsigned(""),
        ["signature taken off"] = g => g.Mara[..(g.Mara.LastIndexOf('.') + 1)],
        ["without the last part"] = g => g.Mara[..g.Mara.LastIndexOf('.')],
        ["one character less"] = g => g.Mara[..^1],
        ["half of it"] = g => g.Mara[..(g.Mara.Length / 2)],
        ["one part more"] = g => g.Mara + ".e30",
        ["five parts"] = g => g.Mara + ".e30.e30",
        ["its first part twice"] = g => g.Mara.Split('.')[0] + "." + g.Mara,
        ["last character of the signature changed"] = g => g.Mara[..^2] + (g.Mara[^2] == 'A' ? "B" : "A") + g.Mara[^1],
        ["Teo's signature under Mara's claims"] = g => g.Mara[..g.Mara.LastIndexOf('.')] + g.Teo[g.Teo.LastIndexOf('.')..],
        ["Mara's name in Teo's claims"] = g => Replace(g.Teo, "\"teo\"", "\"mara\""),
        ["Teo's claims with one role more"] = g => Replace(g.Teo, "deckhand", "engineer"),
        ["signed with another secret"] = g => TestTokens.Make(new string('k', 43), "mara"),
        ["signed with an empty secret"] = g => g.Maker.Sign("HS256", TokenMaker.Claims("mara"), secret: []),
        ["signed with the public RSA key as a secret (PEM)"] =
            g => g.Maker.Sign("HS256", TokenMaker.Claims("mara"), "r1", secret: Encoding.ASCII.GetBytes(g.Maker.RsaPem())),
        ["signed with the public RSA key as a secret (JWK)"] =
            g => g.Maker.Sign("HS256", TokenMaker.Claims("mara"), "r1", secret: Encoding.ASCII.GetBytes(g.Maker.Jwk("RS256", "r1"))),
        ["signed with the public EC key as a secret"] =
            g => g.Maker.Sign("HS256", TokenMaker.Claims("mara"), "e1", secret: Encoding.ASCII.GetBytes(g.Maker.Jwk("ES256", "e1"))),
        ["RS256 of a stranger's key"] = g => g.Stranger.Sign("RS256", TokenMaker.Claims("mara"), "r1"),
        ["ES256 of a stranger's key"] = g => g.Stranger.Sign("ES256", TokenMaker.Claims("mara"), "e1"),
        ["EdDSA of a stranger's key"] = g => g.Stranger.Sign("EdDSA", TokenMaker.Claims("mara"), "d1"),
        ["a stranger's key brought along (jwk)"] =
            g => g.Stranger.Sign("RS256", TokenMaker.Claims("mara"), header: h => h["jwk"] = JsonNode.Parse(g.Stranger.Jwk("RS256"))),
        ["a stranger's key named by address (jku)"] =
            g => g.Stranger.Sign("RS256", TokenMaker.Claims("mara"), header: h => h["jku"] = "http://127.0.0.1:1/keys"),
        ["a stranger's certificate brought along (x5c)"] =
            g => g.Stranger.Sign("RS256", TokenMaker.Claims("mara"), header: h => h["x5c"] = new JsonArray("AAAA")),
        ["a stranger's certificate by address (x5u)"] =
            g => g.Stranger.Sign("RS256", TokenMaker.Claims("mara"), header: h => h["x5u"] = "http://127.0.0.1:1/cert"),
        ["kid that is a path"] = g => g.Stranger.Sign("HS256", TokenMaker.Claims("mara"), "../../../../dev/null", secret: []),
        ["kid that is a query"] = g => g.Stranger.Sign("HS256", TokenMaker.Claims("mara"), "' OR '1'='1", secret: new byte[32]),
        ["kid of another of the space's keys"] = g => g.Maker.Sign("RS256", TokenMaker.Claims("mara"), "e1"),
        ["kid as a number"] = g => g.Maker.Sign("RS256", TokenMaker.Claims("mara"), header: h => h["kid"] = 1),
        ["header that must be understood (crit)"] =
            g => g.Maker.Sign("RS256", TokenMaker.Claims("mara"), "r1", h => h["crit"] = new JsonArray("exp")),
        ["ES256 with an all-zero signature"] = g => Resign(g.Maker.Sign("ES256", TokenMaker.Claims("mara"), "e1"), new byte[64]),
        ["ES256 with half a signature"] = g => Resign(g.Maker.Sign("ES256", TokenMaker.Claims("mara"), "e1"), new byte[32]),
        ["ES256 with one byte more"] = g => Resign(g.Maker.Sign("ES256", TokenMaker.Claims("mara"), "e1"), new byte[65]),
        ["HS256 with no signature"] = g => Resign(g.Mara, []),
        ["HS256 with half a signature"] = g => Resign(g.Mara, SignatureOf(g.Mara)[..16]),
        ["HS256 with one byte more"] = g => Resign(g.Mara, [.. SignatureOf(g.Mara), 0]),
        ["RS256 with one byte more"] = g => OneByteMore(g.Maker.Sign("RS256", TokenMaker.Claims("mara"), "r1")),
        ["with bits that belong to no byte"] = g => g.Mara[..^1] + AfterInAlphabet(g.Mara[^1]),
        ["EdDSA with an all-zero signature"] = g => Resign(g.Maker.Sign("EdDSA", TokenMaker.Claims("mara"), "d1"), new byte[64]),
        ["RS256 signature under the algorithm PS256"] =
            g => Rehead(g.Maker.Sign("RS256", TokenMaker.Claims("mara"), "r1"), "RS256", "PS256"),
        ["RS256 signature under the algorithm HS256"] =
            g => Rehead(g.Maker.Sign("RS256", TokenMaker.Claims("mara"), "r1"), "RS256", "HS256"),
        ["HS256 signature under the algorithm HS512"] = g => Rehead(g.Mara, "HS256", "HS512"),
        ["algorithm named twice"] = g => HeadOf(g, """{"alg":"HS256","alg":"none","typ":"JWT"}"""),
        ["claims that name the user twice"] = g => Hmac(g, """{"sub":"teo","sub":"mara","iat":1,"exp":9999999999}"""),
        ["claims that are an array"] = g => Hmac(g, """["mara"]"""),
        ["claims that are no JSON"] = g => Hmac(g, "mara"),
        ["user as a number"] = g => Change(g, c => c["sub"] = 7),
        ["user as a list"] = g => Change(g, c => c["sub"] = new[] { "mara" }),
        ["no user"] = g => Change(g, c => c.Remove("sub")),
        ["user with a control character"] = g => Change(g, c => c["sub"] = "mara\u0000"),
        ["user with a slash"] = g => Change(g, c => c["sub"] = "x/mara"),
        ["user too long"] = g => Change(g, c => c["sub"] = new string('m', 129)),
        ["expired"] = g => TestTokens.Make(g.S.Secret, "mara", lifetime: TimeSpan.FromMinutes(-5)),
        ["not yet (nbf)"] = g => Change(g, c => c["nbf"] = DateTimeOffset.UtcNow.AddHours(1).ToUnixTimeSeconds()),
        ["nbf as a text"] = g => Change(g, c => c["nbf"] = "now"),
        ["made in the future"] = g => Change(g, c => c["iat"] = DateTimeOffset.UtcNow.AddHours(1).ToUnixTimeSeconds()),
        ["no end"] = g => Change(g, c => c.Remove("exp")),
        ["end as a text"] = g => Change(g, c => c["exp"] = "9999999999"),
        ["end before 1970"] = g => Change(g, c => c["exp"] = -1),
        ["holds for a hundred years"] = g => Change(g, c => c["exp"] = DateTimeOffset.UtcNow.AddYears(100).ToUnixTimeSeconds()),
        ["no time of making"] = g => Change(g, c => c.Remove("iat")),
        ["roles as a text"] = g => Change(g, c => c["roles"] = "engineer"),
        ["a role with a slash"] = g => Change(g, c => c["roles"] = new[] { "a/b" }),
        ["too many roles"] = g => Change(g, c => c["roles"] = Enumerable.Range(0, 65).Select(i => "r" + i).ToArray()),
        ["too long"] = g => Change(g, c => c["pad"] = new string('x', 9000)),
        ["of the space harbour"] = g => TestTokens.Make(g.HarbourSecret, "mara", ["engineer"]),
        ["an API key"] = g => g.S.Key,
        ["a session's id"] = g => g.LiveSession,
        ["a cursor"] = g => g.MarasCursor,
        ["the signing secret itself"] = g => g.S.Secret,
        ["JSON"] = g => """{"sub":"mara"}""",
        ["dots"] = g => "..",
        ["a token with a space in it"] = g => g.Mara.Insert(20, " "),
        ["a token with base64 padding"] = g => g.Mara.Replace(".", "=.", StringComparison.Ordinal),
        ["a token in plus-and-slash base64"] = g => g.Mara.Insert(g.Mara.IndexOf('.') + 2, "+/"),
    };

    static byte[] SignatureOf(string token) => Microsoft.IdentityModel.Tokens.Base64UrlEncoder.DecodeBytes(token.Split('.')[2]);

    static string OneByteMore(string token) => Resign(token, [.. SignatureOf(token), 0]);

    static char AfterInAlphabet(char c)
    {
        const string alphabet = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-_";
        return alphabet[alphabet.IndexOf(c) + 1]; // the last of 43 characters ends in two bits that must be 0
    }

    static string Unsigned(string algorithm) => $"{HostileGround.B64($$"""{"alg":"{{algorithm}}","typ":"JWT"}""")}." +
        $"{HostileGround.B64("""{"sub":"mara","iat":1,"exp":9999999999}""")}.";

    static string Replace(string token, string what, string with)
    {
        var parts = token.Split('.');
        var claims = Encoding.UTF8.GetString(Microsoft.IdentityModel.Tokens.Base64UrlEncoder.DecodeBytes(parts[1]));
        claims.ShouldContain(what);
        return $"{parts[0]}.{HostileGround.B64(claims.Replace(what, with, StringComparison.Ordinal))}.{parts[2]}";
    }

    static string Resign(string token, byte[] signature) => token[..(token.LastIndexOf('.') + 1)] + TokenMaker.B64(signature);

    static string Rehead(string token, string from, string to)
    {
        var parts = token.Split('.');
        var head = Encoding.UTF8.GetString(Microsoft.IdentityModel.Tokens.Base64UrlEncoder.DecodeBytes(parts[0]));
        return $"{HostileGround.B64(head.Replace(from, to, StringComparison.Ordinal))}.{parts[1]}.{parts[2]}";
    }

    static string HeadOf(HostileGround g, string head) => Signed(g, HostileGround.B64(head) + "." + g.Mara.Split('.')[1]);

    static string Hmac(HostileGround g, string claims) =>
        Signed(g, HostileGround.B64("""{"alg":"HS256","typ":"JWT"}""") + "." + HostileGround.B64(claims));

    static string Signed(HostileGround g, string text) =>
        $"{text}.{TokenMaker.B64(HMACSHA256.HashData(Encoding.UTF8.GetBytes(g.S.Secret), Encoding.ASCII.GetBytes(text)))}";

    static string Change(HostileGround g, Action<Dictionary<string, object>> change) => TestTokens.Make(g.S.Secret, "mara", change: change);

    public static TheoryData<string> Names => [.. Forgeries.Keys];

    [Theory, MemberData(nameof(Names))]
    public async Task A_token_that_does_not_hold_opens_nothing(string what)
    {
        var s = ground.S;
        var token = Forgeries[what](ground);
        foreach (var (method, path, body) in new[]
            { ("GET", "/v1/inbox", null), ("GET", $"/v1/inbox/{ground.Ids[0]}", null),
            ("POST", "/v1/inbox/marks", """{"read":{"all":true}}"""), ("POST", "/v1/tickets", "{}"),
                ("POST", "/v1/live/" + ground.StreamSession, """{"kind":"markRead","all":true}"""), ("GET", "/v1/live", null) })
            ground.Refuses(await s.Call(new HttpMethod(method), path, token, body), $"{what}: {path}");
        using var socket = await RawWebSocket.Connect(s.Port, "/v1/live", token.Contains(' ') ? token.Replace(' ', '+') : token);
        socket.Status.ShouldBeInRange(400, 499);
        // As the first message of a socket without a credential.
        using var late = await s.WebSocket(null);
        await late.Text(new JsonObject { ["kind"] = "renew", ["token"] = token }.ToJsonString());
        var refused = await late.Next("refused");
        refused.ToJsonString().ShouldNotContain(ground.Canary);
        // And in the midst of Teo's own session, which goes on as his.
        using var own = await s.WebSocket(ground.Teo);
        await own.Next("current");
        await own.Text(new JsonObject { ["kind"] = "renew", ["token"] = token, ["requestId"] = "r" }.ToJsonString());
        (await own.Next("refused"))["problem"]!["fix"].ShouldNotBeNull();
        await ground.HearsNothing(own, "teo", what);
        await ground.MaraIsUntouched(what);
    }

    static readonly Dictionary<string, Func<HostileGround, string, Task<string>>> TicketTricks = new()
    {
        ["guessed"] = (_, t) => Task.FromResult(t[..^6] + "AAAAAA"),
        ["cut by one"] = (_, t) => Task.FromResult(t[..^1]),
        ["made longer"] = (_, t) => Task.FromResult(t + "A"),
        ["in capitals"] = (_, t) => Task.FromResult(t.ToUpperInvariant()),
        ["without its prefix"] = (_, t) => Task.FromResult(t[(t.LastIndexOf('_') + 1)..]),
        ["empty"] = (_, _) => Task.FromResult(""),
        ["very long"] = (_, t) => Task.FromResult(t + new string('A', 4000)),
        ["a token instead"] = (g, _) => Task.FromResult(g.Mara),
        ["an API key instead"] = (g, _) => Task.FromResult(g.S.Key),
        ["a session's id instead"] = (g, _) => Task.FromResult(g.LiveSession),
        ["with a space"] = (_, t) => Task.FromResult("%20" + t),
        ["with a zero byte"] = (_, t) => Task.FromResult(t + "%00"),
        ["two of them"] = (_, t) => Task.FromResult(t + "&ticket=" + t),
        ["used by a WebSocket before"] = async (g, t) =>
        {
            using var first = await g.S.WebSocket(null, "?ticket=" + t);
            await first.Next("opened");
            return t;
        },
        ["of the space harbour"] = async (g, _) =>
            (string)(await g.S.Post("/s/harbour/v1/tickets", TestTokens.Make(g.HarbourSecret, "mara"), "{}")).Json!["ticket"]!,
        ["opened from another origin before"] = async (g, t) =>
        {
            using var first = await g.S.Events(null, "?ticket=" + t, "Origin: https://crew.example");
            await first.Next("opened");
            return t;
        },
        ["opened by another device before"] = async (g, t) =>
        {
            using var first = await g.S.Events(null, $"?device=hers&ticket={t}");
            await first.Next("opened");
            return t + "&device=his";
        },
    };

    public static TheoryData<string> TicketNames => [.. TicketTricks.Keys];

    [Theory, MemberData(nameof(TicketNames))]
    public async Task A_ticket_that_does_not_hold_opens_nothing(string what)
    {
        var s = ground.S;
        var ticket = await TicketTricks[what](ground, (string)(await s.Post("/v1/tickets", ground.Mara, "{}")).Json!["ticket"]!);
        var stream = await s.Call(HttpMethod.Get, "/v1/live?ticket=" + ticket, null, null, ("Accept", "text/event-stream"));
        ground.Refuses(stream, what);
        using var socket = await s.WebSocket(null, "?ticket=" + ticket);
        if (socket.Status == 101) (await socket.Next("refused")).ToJsonString().ShouldNotContain(ground.Canary);
        else socket.Status.ShouldBeInRange(400, 499);
        ground.Refuses(await s.Post($"/v1/live/{ground.StreamSession}?ticket={ticket}", null, """{"kind":"markRead","all":true}"""), what);
        ground.Refuses(await s.Get("/v1/inbox?ticket=" + ticket, null), what); // it opens a stream, and nothing else
        await ground.MaraIsUntouched(what);
    }
}
