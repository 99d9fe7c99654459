using System.Net;
using System.Security.Cryptography;
using System.Text;
using System.Text.Json;
using System.Text.Json.Nodes;
using Microsoft.IdentityModel.Tokens;
using Org.BouncyCastle.Crypto.Parameters;
using Org.BouncyCastle.Crypto.Signers;
using Org.BouncyCastle.Security;
using Rovett.Testing;
using Shouldly;
using Xunit;

namespace Rovett.Service.Tests;

/// <summary>Who makes tokens elsewhere: key pairs of each algorithm, and a server that shows the public parts of some.</summary>
sealed class TokenMaker : IDisposable
{
    readonly RSA rsa = RSA.Create(2048);
    readonly ECDsa ec = ECDsa.Create(ECCurve.NamedCurves.nistP256);
    readonly Ed25519PrivateKeyParameters edwards = new(new SecureRandom());

    public string Jwk(string algorithm, string? kid = null)
    {
        var jwk = new JsonObject { ["use"] = "sig", ["alg"] = algorithm };
        if (kid is not null) jwk["kid"] = kid;
        switch (algorithm)
        {
            case "RS256":
                var p = rsa.ExportParameters(false);
                (jwk["kty"], jwk["n"], jwk["e"]) = ("RSA", B64(p.Modulus!), B64(p.Exponent!));
                break;
            case "ES256":
                var q = ec.ExportParameters(false).Q;
                (jwk["kty"], jwk["crv"], jwk["x"], jwk["y"]) = ("EC", "P-256", B64(q.X!), B64(q.Y!));
                break;
            default:
                (jwk["kty"], jwk["crv"], jwk["x"]) = ("OKP", "Ed25519", B64(edwards.GeneratePublicKey().GetEncoded()));
                break;
        }
        return jwk.ToJsonString();
    }

    public static JsonObject Claims(string user, params string[] roles) => new()
    {
        ["sub"] = user,
        ["iat"] = DateTimeOffset.UtcNow.ToUnixTimeMilliseconds() / 1000.0,
        ["exp"] = DateTimeOffset.UtcNow.ToUnixTimeSeconds() + 600,
        ["roles"] = new JsonArray([.. roles.Select(r => (JsonNode)r)]),
    };

    public string Sign(string algorithm, JsonObject claims, string? kid = null, Action<JsonObject>? header = null, byte[]? secret = null)
    {
        var head = new JsonObject { ["alg"] = algorithm, ["typ"] = "JWT" };
        if (kid is not null) head["kid"] = kid;
        header?.Invoke(head);
        var signed = $"{B64(Encoding.UTF8.GetBytes(head.ToJsonString()))}.{B64(Encoding.UTF8.GetBytes(claims.ToJsonString()))}";
        var bytes = Encoding.ASCII.GetBytes(signed);
        return signed + "." + B64(algorithm switch
        {
            "RS256" => rsa.SignData(bytes, HashAlgorithmName.SHA256, RSASignaturePadding.Pkcs1),
            "ES256" => ec.SignData(bytes, HashAlgorithmName.SHA256),
            "EdDSA" => Edwards(bytes),
            "HS256" => HMACSHA256.HashData(secret!, bytes),
            _ => [],
        });
    }

    byte[] Edwards(byte[] bytes)
    {
        var signer = new Ed25519Signer();
        signer.Init(true, edwards);
        signer.BlockUpdate(bytes, 0, bytes.Length);
        return signer.GenerateSignature();
    }

    public string RsaPem() => rsa.ExportSubjectPublicKeyInfoPem();

    public static string B64(byte[] bytes) => Base64UrlEncoder.Encode(bytes);

    public void Dispose()
    {
        rsa.Dispose();
        ec.Dispose();
    }
}

/// <summary>An issuer's web server: a discovery document and a key set that a test changes.</summary>
sealed class Issuer : IDisposable
{
    readonly HttpListener listener;

    public Issuer()
    {
        for (int port = 20_000 + Random.Shared.Next(20_000); ; port++)
        {
            // One that could not start is of no use any more.
            listener = new HttpListener();
            try
            {
                Url = $"http://127.0.0.1:{port}";
                listener.Prefixes.Add(Url + "/");
                listener.Start();
                break;
            }
            catch (HttpListenerException)
            {
                listener.Close();
            }
        }
        _ = Serve();
    }

    public string Url { get; }
    public volatile string Keys = """{"keys":[]}""";
    public volatile string? Says;
    public volatile bool Down;
    public int Asked;

    async Task Serve()
    {
        while (listener.IsListening)
        {
            HttpListenerContext context;
            try
            {
                context = await listener.GetContextAsync();
            }
            catch (Exception error) when (error is HttpListenerException or ObjectDisposedException)
            {
                return;
            }
            bool discovery = context.Request.Url!.AbsolutePath == "/.well-known/openid-configuration";
            if (!discovery) Interlocked.Increment(ref Asked);
            context.Response.StatusCode = Down ? 500 : 200;
            context.Response.Headers["Cache-Control"] = "max-age=600";
            var body = Encoding.UTF8.GetBytes(discovery
                ? JsonSerializer.Serialize(new { issuer = Says ?? Url, jwks_uri = Url + "/keys" })
                : Keys);
            await context.Response.OutputStream.WriteAsync(Down ? [] : body);
            context.Response.Close();
        }
    }

    public void Dispose() => listener.Close();
}

public sealed class SigningKeyTests : IAsyncLifetime
{
    readonly TestClock clock = new();
    readonly TokenMaker maker = new(), other = new();
    ServiceUnderTest s = null!;

    public async ValueTask InitializeAsync() =>
        s = await ServiceUnderTest.Start(o => (o.Spaces, o.WebhookNetworks) = (["harbour"], ["127.0.0.1/32"]), clock);

    public async ValueTask DisposeAsync()
    {
        await s.DisposeAsync();
        maker.Dispose();
        other.Dispose();
    }

    Task<Answer> Add(string json) => s.Post("/v1/signing-keys", s.Key, json);
    Task<Answer> Set(string json) => s.Call(HttpMethod.Patch, "/v1/settings", s.Key, json);

    async Task<string> Verdict(string token)
    {
        var answer = await s.Get("/v1/inbox/totals", token);
        return answer.Status == 200 ? "in" : answer.Problem!;
    }

    [Theory]
    [InlineData("RS256")]
    [InlineData("ES256")]
    [InlineData("EdDSA")]
    public async Task A_public_key_lets_in_what_its_private_part_signed_and_nothing_else(string algorithm)
    {
        (await Add($$"""{"name":"idp","publicKey":{{maker.Jwk(algorithm, "k1")}}}""")).Status.ShouldBe(201);
        (await Verdict(maker.Sign(algorithm, TokenMaker.Claims("mara", "engineer"), "k1"))).ShouldBe("in");
        (await Verdict(maker.Sign(algorithm, TokenMaker.Claims("mara")))).ShouldBe("in"); // names no key: all are tried
        (await Verdict(maker.Sign(algorithm, TokenMaker.Claims("mara"), "k2"))).ShouldBe("token-signature");
        (await Verdict(other.Sign(algorithm, TokenMaker.Claims("mara"), "k1"))).ShouldBe("token-signature");
        var token = maker.Sign(algorithm, TokenMaker.Claims("mara"));
        var parts = token.Split('.');
        var claims = JsonNode.Parse(Base64UrlEncoder.Decode(parts[1]))!.AsObject();
        claims["sub"] = "teo";
        (await Verdict($"{parts[0]}.{TokenMaker.B64(Encoding.UTF8.GetBytes(claims.ToJsonString()))}.{parts[2]}")).ShouldBe(
            "token-signature");
        (await Verdict($"{parts[0]}.{parts[1]}.")).ShouldBe("token-signature");
        (await Verdict($"{parts[0]}.{parts[1]}.{parts[2][..40]}")).ShouldBe("token-signature");
    }

    [Fact]
    public async Task A_public_key_is_never_taken_for_a_secret_nor_one_algorithm_for_another()
    {
        await Add($$"""{"name":"rsa","publicKey":{{maker.Jwk("RS256")}}}""");
        foreach (var secret in new[] { maker.RsaPem(), maker.RsaPem().ReplaceLineEndings(""), maker.Jwk("RS256") })
            (await Verdict(maker.Sign("HS256", TokenMaker.Claims("mara"), secret: Encoding.UTF8.GetBytes(secret)))).ShouldBe(
                "token-signature");
        var claims = TokenMaker.Claims("mara");
        (await Verdict(maker.Sign("RS256", claims, header: h => h["alg"] = "ES256"))).ShouldBe("token-signature");
        (await Verdict(maker.Sign("RS256", claims, header: h => h["alg"] = "PS256"))).ShouldBe("token-algorithm");
        (await Verdict(maker.Sign("RS256", claims, header: h => h["alg"] = "rs256"))).ShouldBe("token-algorithm");
        (await Verdict(maker.Sign("none", claims))).ShouldBe("token-algorithm");
        (await Verdict(maker.Sign("RS256", claims, header: h => h["crit"] = new JsonArray("b64")))).ShouldBe("token-critical");
        // A key that a token brings along is not looked at.
        (await Verdict(maker.Sign("RS256", claims, header: h => h["jwk"] = JsonNode.Parse(other.Jwk("RS256"))))).ShouldBe("in");
        (await Verdict(other.Sign("RS256", claims, header: h => h["jwk"] = JsonNode.Parse(other.Jwk("RS256"))))).ShouldBe(
            "token-signature");
        (await Set("""{"tokens":{"algorithms":["HS256"]}}""")).Status.ShouldBe(200);
        (await Verdict(maker.Sign("RS256", claims))).ShouldBe("token-algorithm");
    }

    [Fact]
    public async Task Two_secrets_hold_until_the_first_is_removed_and_what_it_signed_ends_at_once()
    {
        var made = await Add("""{"name":"second","kid":"2"}""");
        made.Status.ShouldBe(201);
        var secret = (string)made.Json!["secret"]!;
        var old = s.Token("mara", "engineer");
        (await Verdict(old)).ShouldBe("in");
        (await Verdict(TestTokens.Make(secret, "mara", ["engineer"]))).ShouldBe("in");
        using var live = await s.WebSocket(old);
        await live.Next("current");
        using var stays = await s.WebSocket(TestTokens.Make(secret, "teo"));
        await stays.Next("current");
        var ticket = (string)(await s.Post("/v1/tickets", old, "{}")).Json!["ticket"]!;

        var removed = await s.Call(HttpMethod.Delete, "/v1/signing-keys/first", s.Key);
        (removed.Status, (int)removed.Json!["sessionsEnded"]!).ShouldBe((200, 1));
        ((string)(await live.Next("ending"))["reason"]!).ShouldBe("signing-key-removed");
        (await Verdict(old)).ShouldBe("token-signature"); // it was verified before
        using var refused = await s.WebSocket(null, $"?ticket={ticket}");
        ((string)(await refused.Next("refused"))["problem"]!["type"]!).ShouldEndWith("ticket-key-removed");
        await s.Send("user:teo", "Still here");
        ((string)(await stays.Next("notification"))["title"]!).ShouldBe("Still here");
        var listed = await s.Get("/v1/signing-keys", s.Key);
        listed.Json!["signingKeys"]!.AsArray().Select(k => (string)k!["name"]!).ShouldBe(["second"]);
        listed.Text.ShouldNotContain(secret);
        await Add("""{"name":"first"}"""); // another key by that name brings nothing back
        using (var still = await s.WebSocket(null,
            $"?ticket={ticket}")) ((string)(await still.Next("refused"))["problem"]!["type"]!).ShouldEndWith("ticket-unknown");
        (await Verdict(old)).ShouldBe("token-signature");
        await s.Restart();
        (await Verdict(TestTokens.Make(secret, "mara"))).ShouldBe("in");
        (await Verdict(old)).ShouldBe("token-signature");
    }

    [Fact]
    public async Task An_issuer_is_discovered_its_keys_rotate_and_go_on_holding_while_it_is_down()
    {
        using var issuer = new Issuer { };
        issuer.Keys =
            $$"""{"keys":[{{maker.Jwk("RS256", "a")}},{"kty":"oct","k":"AAAA","kid":"b"},{"kty":"EC","crv":"P-521","x":"AA","y":"AA"}]}""";
        var early = await Add($$"""{"name":"idp","issuer":"{{issuer.Url}}"}""");
        (early.Status, (string)early.Json!["errors"]![0]!["field"]!).ShouldBe((422, "issuer")); // no audience yet
        (await Set("""{"tokens":{"audiences":["ferries"],"userClaim":"preferred_name","rolesClaim":"/realm/roles~1all"}}""")).Status.ShouldBe(200);
        (await Add($$"""{"name":"idp","issuer":"{{issuer.Url}}"}""")).Status.ShouldBe(201);

        JsonObject Claims(Action<JsonObject>? change = null)
        {
            var claims = TokenMaker.Claims("0815");
            claims.Remove("roles");
            (claims["iss"], claims["aud"], claims["preferred_name"]) = (issuer.Url, new JsonArray("else", "ferries"), "mara");
            claims["realm"] = new JsonObject { ["roles/all"] = new JsonArray("engineer") };
            change?.Invoke(claims);
            return claims;
        }

        var token = maker.Sign("RS256", Claims(), "a");
        using (var live = await s.Events(token))
        {
            var opened = await live.Next("opened");
            opened["channels"]!.AsArray().Select(c => (string)c!).ShouldBe(["user:mara", "role:engineer", "everyone"]);
        }
        (await Verdict(maker.Sign("RS256", Claims(c => c["iss"] = issuer.Url + "/"), "a"))).ShouldBe("token-issuer");
        (await Verdict(maker.Sign("RS256", Claims(c => c.Remove("iss")), "a"))).ShouldBe("token-issuer");
        (await Verdict(maker.Sign("RS256", Claims(c => c["aud"] = "Ferries"), "a"))).ShouldBe("token-audience");
        (await Verdict(maker.Sign("RS256", Claims(c => c.Remove("aud")), "a"))).ShouldBe("token-audience");
        (await Verdict(maker.Sign("RS256", Claims(c => c.Remove("preferred_name")), "a"))).ShouldBe("token-claims");
        issuer.Asked.ShouldBe(1); // kept
        (await Verdict(other.Sign("RS256", Claims(), "new"))).ShouldBe("token-signature");
        issuer.Asked.ShouldBe(1); // and not asked at every unknown name

        issuer.Keys = $$"""{"keys":[{{other.Jwk("RS256", "new")}},{{maker.Jwk("RS256", "a")}}]}""";
        clock.Advance(TimeSpan.FromSeconds(31));
        (await Verdict(other.Sign("RS256", Claims(), "new"))).ShouldBe("in");
        issuer.Asked.ShouldBe(2);
        issuer.Down = true;
        clock.Advance(TimeSpan.FromMinutes(11));
        (await Verdict(maker.Sign("RS256", Claims(c => c["exp"] = clock.GetUtcNow().ToUnixTimeSeconds() + 60), "a"))).ShouldBe("in");
        ((string?)(await s.Get("/v1/signing-keys", s.Key)).Json!["signingKeys"]![1]!["error"]).ShouldNotBeNull();
        issuer.Down = false;
        issuer.Keys = $$"""{"keys":[{{other.Jwk("RS256", "new")}}]}""";
        clock.Advance(TimeSpan.FromSeconds(11));
        // It went.
        (await Verdict(
            maker.Sign("RS256", Claims(c => (c["exp"], c["jti"]) = (clock.GetUtcNow().ToUnixTimeSeconds() + 60, "x")),
            "a"))).ShouldBe("token-signature");
        (await Set("""{"tokens":{"audiences":null}}""")).Status.ShouldBe(422);
    }

    [Fact]
    public async Task An_issuer_that_says_it_is_another_and_one_that_is_down_let_nobody_in()
    {
        using var issuer = new Issuer { Says = "https://issuer.example" };
        issuer.Keys = $$"""{"keys":[{{maker.Jwk("ES256")}}]}""";
        await Set("""{"tokens":{"audiences":["ferries"]}}""");
        await Add($$"""{"name":"idp","issuer":"{{issuer.Url}}"}""");
        var claims = TokenMaker.Claims("mara");
        (claims["iss"], claims["aud"]) = (issuer.Url, "ferries");
        (await Verdict(maker.Sign("ES256", claims))).ShouldBe("signing-keys-unavailable");
        var answer = await s.Get("/v1/inbox", maker.Sign("ES256", claims));
        (answer.Status, answer.Headers.RetryAfter!.Delta).ShouldBe((503, TimeSpan.FromSeconds(10)));
        ((string)(await s.Get("/v1/signing-keys", s.Key)).Json!["signingKeys"]![1]!["error"]!).ShouldContain("another issuer");
        // The space's own secret goes on.
        (await Verdict(TestTokens.Make(s.Secret, "mara", change: c => c["aud"] = "ferries"))).ShouldBe("in");
    }

    [Fact]
    public async Task A_key_set_in_a_file_is_read_again_when_it_changes()
    {
        var folder = Directory.CreateDirectory(Path.Combine(s.Folder, "keys")).FullName;
        var file = Path.Combine(folder, "idp.json");
        await File.WriteAllTextAsync(file, $$"""{"keys":[{{maker.Jwk("EdDSA", "a")}}]}""", TestContext.Current.CancellationToken);
        await Set("""{"tokens":{"audiences":["ferries"]}}""");
        foreach (var outside in new[] { "file:../access.db", "file:/etc/passwd", "file:.hidden", "file:", "ftp://x.example/a",
            "https://user:pw@x.example/keys" })
            (await Add($$"""{"name":"bad","keySet":"{{outside}}"}""")).Status.ShouldBe(422, outside);
        (await Add("""{"name":"idp","keySet":"file:idp.json"}""")).Status.ShouldBe(201);
        string Token(TokenMaker by, string kid)
        {
            var claims = TokenMaker.Claims("mara");
            (claims["aud"], claims["jti"]) = ("ferries", Guid.NewGuid().ToString());
            return by.Sign("EdDSA", claims, kid);
        }
        (await Verdict(Token(maker, "a"))).ShouldBe("in");
        (await Verdict(Token(other, "b"))).ShouldBe("token-signature");
        await File.WriteAllTextAsync(file, $$"""{"keys":[{{other.Jwk("EdDSA", "b")}}]}""", TestContext.Current.CancellationToken);
        File.SetLastWriteTimeUtc(file, DateTime.UtcNow.AddSeconds(5));
        (await Verdict(Token(other, "b"))).ShouldBe("in");
        (await Verdict(Token(maker, "a"))).ShouldBe("token-signature");
    }

    [Theory]
    [InlineData("""{"name":"k","publicKey":{"kty":"RSA","n":"AQAB","e":"AQAB"}}""", "publicKey", "bits")]
    [InlineData("""{"name":"k","publicKey":{"kty":"oct","k":"AAAA"}}""", "publicKey", "RSA")]
    [InlineData("""{"name":"k","publicKey":{"kty":"EC","crv":"P-256","x":"AAAA","y":"AAAA"}}""", "publicKey", "valid")]
    [InlineData("""{"name":"k","publicKey":{"kty":"OKP","crv":"Ed25519","x":"AAAA"}}""", "publicKey", "valid")]
    [InlineData("""{"name":"k","publicKey":"-----BEGIN"}""", "publicKey", "JWK")]
    [InlineData("""{"name":"k","secret":"too short"}""", "secret", "32")]
    [InlineData("""{"name":"k","keySet":"https://x.example/k","secret":"aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa"}""", "(body)",
    "more than once")]
    [InlineData("""{"name":"","kid":""}""", "name", "characters")]
    [InlineData("""{"name":"k","jwk":{}}""", "jwk", "members")]
    public async Task What_is_no_key_is_refused_with_the_mend(string body, string field, string says)
    {
        var answer = await Add(body);
        answer.Status.ShouldBe(422);
        answer.Json!["errors"]!.AsArray().ShouldContain(e => (string)e!["field"]! == field && ((string)e["detail"]!).Contains(says),
            answer.Text);
        (await s.Get("/v1/signing-keys", s.Key)).Json!["signingKeys"]!.AsArray().Count.ShouldBe(1);
    }

    [Fact]
    public async Task A_private_key_is_refused_and_said_to_be_spoilt()
    {
        var jwk = JsonNode.Parse(maker.Jwk("EdDSA"))!.AsObject();
        jwk["d"] = TokenMaker.B64(new byte[32]);
        var answer = await Add(new JsonObject { ["name"] = "k", ["publicKey"] = jwk }.ToJsonString());
        ((string)answer.Json!["errors"]![0]!["field"]!).ShouldBe("publicKey.d");
    }

    [Fact]
    public async Task Settings_decide_how_long_a_token_may_hold_and_how_far_clocks_may_be_apart()
    {
        (await Verdict(TestTokens.Make(s.Secret, "mara", lifetime: TimeSpan.FromDays(8)))).ShouldBe("token-life");
        var late = TestTokens.Make(s.Secret, "mara", lifetime: TimeSpan.FromSeconds(-60));
        (await Verdict(late)).ShouldBe("token-expired");
        (await Set("""{"tokens":{"clockSkewSeconds":120,"maxLifeSeconds":3601}}""")).Status.ShouldBe(200);
        (await Verdict(TestTokens.Make(s.Secret, "mara", lifetime: TimeSpan.FromHours(1)))).ShouldBe("in");
        (await Verdict(TestTokens.Make(s.Secret, "mara", lifetime: TimeSpan.FromHours(2)))).ShouldBe("token-life");
        (await Verdict(
            TestTokens.Make(s.Secret, "mara", change: c => c["nbf"] = DateTimeOffset.UtcNow.ToUnixTimeSeconds() + 600))).ShouldBe(
            "token-not-yet");
        (await Verdict(TestTokens.Make(s.Secret, "mara", change: c => c["nbf"] = "soon"))).ShouldBe("token-claims");
        var patched = await Set("""{"tokens":{"clockSkewSeconds":null}}""");
        ((int)patched.Json!["tokens"]!["clockSkewSeconds"]!, (int)patched.Json["tokens"]!["maxLifeSeconds"]!).ShouldBe((30, 3601));
        foreach (var bad in new[] { """{"tokens":{"clockSkewSeconds":301}}""", """{"tokens":7}""", """{"token":{}}""",
            """{"tokens":{"algorithms":[]}}""", """{"tokens":{"algorithms":["none"]}}""", """{"origins":["*"]}""",
                """{"origins":["https://app.example/"]}""", "[]", """{"tokens":{"userClaim":""}}""" })
            (await Set(bad)).Status.ShouldBe(422, bad);
        await s.Restart();
        ((int)(await s.Get("/v1/settings", s.Key)).Json!["tokens"]!["maxLifeSeconds"]!).ShouldBe(3601);
        (await s.Get("/v1/settings", s.Token("mara"))).Problem.ShouldBe("token-for-api-key");
    }

    [Fact]
    public async Task A_token_names_each_member_once()
    {
        var now = DateTimeOffset.UtcNow.ToUnixTimeSeconds();
        string Signed(string header, string claims)
        {
            var signed = $"{TokenMaker.B64(Encoding.UTF8.GetBytes(header))}.{TokenMaker.B64(Encoding.UTF8.GetBytes(claims))}";
            return signed + "." + TokenMaker.B64(HMACSHA256.HashData(Encoding.UTF8.GetBytes(s.Secret), Encoding.ASCII.GetBytes(signed)));
        }
        (await Verdict(Signed("""{"alg":"HS256"}""", $$"""{"sub":"mara","iat":{{now}},"exp":{{now + 60}}}"""))).ShouldBe("in");
        (await Verdict(Signed("""{"alg":"HS256"}""", $$"""{"sub":"teo","sub":"mara","iat":{{now}},"exp":{{now + 60}}}"""))).ShouldBe(
            "token-malformed");
        (await Verdict(Signed("""{"alg":"none","alg":"HS256"}""", $$"""{"sub":"mara","iat":{{now}},"exp":{{now + 60}}}"""))).ShouldBe(
            "token-malformed");
        (await Verdict(Signed("""{"alg":"HS256","kid":7}""", $$"""{"sub":"mara","iat":{{now}},"exp":{{now + 60}}}"""))).ShouldBe(
            "token-malformed");
        (await Verdict(Signed("""{"alg":"HS256"}""", "[]"))).ShouldBe("token-malformed");
        (await Verdict(Signed("""["HS256"]""", "{}"))).ShouldBe("token-malformed");
        (await Verdict(new string('a', 9000))).ShouldBe("token-malformed");
    }
}
