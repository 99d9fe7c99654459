using System.Text;
using System.Text.Json.Nodes;
using Rovett.Testing;
using Shouldly;
using Xunit;

namespace Rovett.Service.Tests.Hostile;

/// <summary>A service with something worth stealing: Mara's notifications, personal, by role and by topic, each with a canary; a
/// second space with its own; and Teo, who is on none of it. After each case nothing of it may have left, and nothing of
/// Mara's may have changed.</summary>
public sealed class HostileGround : IAsyncLifetime
{
    const string Policies = """
        {"policies":[
          {"name":"own matters","topic":"person/{user}/{rest...}","may":["subscribe","follow"],"when":{"user":"{user}"}},
          {"name":"crew of a berth","topic":"berth/{berth}","may":["subscribe","follow"],"when":{"role":"berth-{berth}"}},
          {"name":"vessels","topic":"vessel/{vessel}","may":["subscribe","follow"],"when":{"claims":{"vessel":"{vessel}"}}}
        ]}
        """;

    public ServiceUnderTest S { get; private set; } = null!;
    /// <summary>Key pairs whose public parts the space main has; and others that it has not.</summary>
    internal TokenMaker Maker { get; } = new();
    internal TokenMaker Stranger { get; } = new();
    public string Canary { get; } = "canary" + Guid.NewGuid().ToString("N");
    public string Mara { get; private set; } = "";
    public string Teo { get; private set; } = "";
    public RawWebSocket Live { get; private set; } = null!;
    public RawEvents Stream { get; private set; } = null!;
    public string LiveSession { get; private set; } = "";
    public string StreamSession { get; private set; } = "";
    public string MarasCursor { get; private set; } = "";
    public string HarbourKey { get; private set; } = "";
    public string HarbourSecret { get; private set; } = "";
    public string HarbourCursor { get; private set; } = "";
    /// <summary>Ids of Mara's notifications: personal, by role (to be taken over), by topic.</summary>
    public string[] Ids { get; private set; } = [];
    public string NarrowKey { get; private set; } = "";
    public string ReadKey { get; private set; } = "";
    public string RevokedKey { get; private set; } = "";
    long unread, rev;

    public async ValueTask InitializeAsync()
    {
        S = await ServiceUnderTest.Start(o => o.Origins = ["https://crew.example"]);
        (await S.Call(HttpMethod.Put, "/v1/policies", S.Key, Policies)).Status.ShouldBe(200);
        foreach (var (name, algorithm, kid) in new[] { ("rsa", "RS256", "r1"), ("ec", "ES256", "e1"), ("ed", "EdDSA", "d1") })
            (await S.Post("/v1/signing-keys", S.Key,
                new JsonObject
                {
                    ["name"] = name,
                    ["kid"] = kid,
                    ["publicKey"] = JsonNode.Parse(Maker.Jwk(algorithm, kid))
                }.ToJsonString())).Status.ShouldBe(201);
        Mara = TestTokens.Make(S.Secret, "mara", ["engineer", "berth-3"], change: c => c["vessel"] = "turnstone");
        Teo = S.Token("teo", "deckhand");
        var harbour = (await S.Post("/v1/spaces", S.Key, """{"name":"harbour"}""")).Json!["credentials"]!;
        (HarbourKey, HarbourSecret) = ((string)harbour["adminKey"]!, (string)harbour["tokenSigningSecret"]!);
        await S.Post("/s/harbour/v1/notifications", HarbourKey,
            $$"""{"to":["user:teo","user:mara"],"type":"t","title":"{{Canary}} harbour"}""");
        HarbourCursor = (string)(await S.Get("/s/harbour/v1/inbox", TestTokens.Make(HarbourSecret, "mara"))).Json!["cursor"]!;
        foreach (var topic in new[] { "person/mara/letters", "berth/3", "vessel/turnstone" })
        {
            (await S.Post("/v1/follows", Mara, $$"""{"topic":"{{topic}}"}""")).Status.ShouldBe(200);
        }
        Ids = [await Send("user:mara"), await Send("role:engineer", takeable: true), await Send("topic:person/mara/letters"),
            await Send("topic:berth/3"), await Send("topic:vessel/turnstone")];
        Live = await S.WebSocket(Mara, "?device=desk");
        LiveSession = (string)(await Live.Next("opened"))["session"]!;
        MarasCursor = (string)(await Live.Next("current"))["cursor"]!;
        Stream = await S.Events(Mara, "?device=phone");
        StreamSession = (string)(await Stream.Next("opened"))["session"]!;
        async Task<string> Key(string body) => (string)(await S.Post("/v1/keys", S.Key, body)).Json!["key"]!;
        NarrowKey = await Key(
            """{"name":"narrow","scopes":["send"],"types":["progress.*"],"addresses":["role:deckhand","topic:berth/4*"]}""");
        ReadKey = await Key("""{"name":"reader","scopes":["read"]}""");
        RevokedKey = await Key("""{"name":"gone","scopes":["admin"]}""");
        var gone = (await S.Get("/v1/keys", S.Key)).Json!["keys"]!.AsArray().Single(k => (string)k!["name"]! == "gone")!;
        await S.Call(HttpMethod.Delete, $"/v1/keys/{gone["id"]}", S.Key);
        (unread, rev) = await S.Totals(Mara);
    }

    /// <summary>Sends one of Mara's, with the canary in every part of it.</summary>
    public async Task<string> Send(string to, bool takeable = false)
    {
        var answer = await S.Post("/v1/notifications", S.Key, $$"""{"to":["{{to}}"],"type":"letter","subject":"{{Canary}}","title":"{{Canary}}","body":"{{Canary}}","link":"/{{Canary}}","data":{"c":"{{Canary}}"}{{(takeable ? ",\"takeable\":true" : "")}}}""");
        answer.Status.ShouldBe(201, answer.Text);
        return (string)answer.Json!["id"]!;
    }

    /// <summary>An answer that refuses, and gives nothing away.</summary>
    public void Refuses(Answer answer, string what)
    {
        answer.Status.ShouldBeInRange(400, 499, what);
        answer.Text.ShouldNotContain(Canary, Case.Insensitive, what);
        answer.Headers.ToString().ShouldNotContain(Canary, Case.Insensitive, what);
        if (answer.Json is JsonObject problem && answer.Text.Length > 0) ((string?)problem["fix"]).ShouldNotBeNullOrEmpty(what);
    }

    /// <summary>A connection on which something else than Mara's came: what follows for it and for Mara goes where it belongs.</summary>
    public async Task HearsNothing(RawConnection attacker, string own, string what)
    {
        await Send("user:mara");
        await Send("topic:person/mara/letters");
        await Send("topic:berth/3");
        var fence = "fence" + Guid.NewGuid().ToString("N");
        await S.Post("/v1/notifications", S.Key, $$"""{"to":["user:{{own}}"],"type":"t","title":"{{fence}}","store":false}""");
        for (; ; )
        {
            var next = (await attacker.Next()).ShouldNotBeNull(what);
            var text = next.ToJsonString();
            text.ShouldNotContain(Canary, Case.Insensitive, what);
            if (text.Contains(fence, StringComparison.Ordinal)) return;
        }
    }

    /// <summary>Nothing that was Mara's changed by anybody else's act: only what was sent to her came.</summary>
    public async Task MaraIsUntouched(string what)
    {
        var now = await S.Totals(Mara);
        now.Rev.ShouldBe(rev, what);
        now.Unread.ShouldBeGreaterThanOrEqualTo(unread, what);
        unread = now.Unread;
        (await S.Get($"/v1/inbox/{Ids[1]}", Mara)).Json!["state"]!["taken"].ShouldBeNull(what);
    }

    public static string B64(string text) =>
        Convert.ToBase64String(Encoding.UTF8.GetBytes(text)).TrimEnd('=').Replace('+', '-').Replace('/', '_');

    public async ValueTask DisposeAsync()
    {
        Live.Dispose();
        Stream.Dispose();
        await S.DisposeAsync();
        Maker.Dispose();
        Stranger.Dispose();
    }
}
