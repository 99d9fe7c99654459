using System.Text;
using Rovett.Testing;
using Shouldly;
using Xunit;

namespace Rovett.Service.Tests.Hostile;

/// <summary>Every path of the interface, with every kind of credential that is not the one it takes; and every path
/// that takes a body, with bodies
/// that are none. What it is asked is right otherwise, so that nothing else stands in the way.</summary>
public sealed class HostileDoorTests(HostileGround ground) : IClassFixture<HostileGround>
{
    enum Takes { Sender, Reader, Admin, MainAdmin, User, Operator }

    static readonly (string Method, string Path, Takes Takes, string? Body)[] All =
    [
        ("POST", "/v1/notifications", Takes.Sender, """{"to":["user:mara"],"type":"t","title":"x"}"""),
        ("POST", "/v1/notifications?dryRun=true", Takes.Sender, """{"to":["user:mara"],"type":"t","title":"x"}"""),
        ("DELETE", "/v1/notifications/{id}", Takes.Sender, null),
        ("GET", "/v1/notifications/{id}", Takes.Reader, null),
        ("GET", "/v1/users", Takes.Reader, null),
        ("GET", "/v1/users?id=mara", Takes.Reader, null),
        ("GET", "/v1/users/mara", Takes.Reader, null),
        ("POST", "/v1/users", Takes.Admin, """{"id":"mara","roles":[]}"""),
        ("PUT", "/v1/users?id=mara", Takes.Admin, """{"roles":[]}"""),
        ("PUT", "/v1/users/mara", Takes.Admin, """{"blocked":true}"""),
        ("DELETE", "/v1/users?id=mara", Takes.Admin, null),
        ("DELETE", "/v1/users/mara", Takes.Admin, null),
        ("POST", "/v1/users/sign-out?id=mara", Takes.Admin, "{}"),
        ("POST", "/v1/users/mara/sign-out", Takes.Admin, "{}"),
        ("GET", "/v1/roles", Takes.Reader, null),
        ("GET", "/v1/roles/engineer", Takes.Reader, null),
        ("PUT", "/v1/roles?role=engineer", Takes.Admin, """{"newcomers":"now"}"""),
        ("PUT", "/v1/roles/engineer", Takes.Admin, """{"newcomers":"now"}"""),
        ("GET", "/v1/receipts", Takes.Reader, null),
        ("GET", "/v1/webhooks", Takes.Admin, null),
        ("GET", "/v1/webhooks/billing", Takes.Admin, null),
        ("PUT", "/v1/webhooks/billing", Takes.Admin, """{"url":"https://elsewhere.example/"}"""),
        ("DELETE", "/v1/webhooks/billing", Takes.Admin, null),
        ("GET", "/v1/status", Takes.Reader, null),
        ("GET", "/v1/sessions", Takes.Reader, null),
        ("GET", "/v1/limits", Takes.Reader, null),
        ("GET", "/v1/clock", Takes.Reader, null),
        ("POST", "/v1/clock/confirm", Takes.MainAdmin, "{}"),
        ("GET", "/v1/keys", Takes.Admin, null),
        ("POST", "/v1/keys", Takes.Admin, """{"name":"x","scopes":["admin"]}"""),
        ("DELETE", "/v1/keys/{key}", Takes.Admin, null),
        ("POST", "/v1/keys/{key}/rotate", Takes.Admin, "{}"),
        ("GET", "/v1/signing-keys", Takes.Admin, null),
        ("POST", "/v1/signing-keys", Takes.Admin, """{"name":"x"}"""),
        ("DELETE", "/v1/signing-keys/rsa", Takes.Admin, null),
        ("GET", "/v1/settings", Takes.Admin, null),
        ("PATCH", "/v1/settings", Takes.Admin, """{"tokens":{"maxLifeSeconds":60}}"""),
        ("GET", "/v1/audit", Takes.Admin, null),
        ("GET", "/v1/policies", Takes.Reader, null),
        ("PUT", "/v1/policies", Takes.Admin, """{"policies":[]}"""),
        ("GET", "/v1/grants", Takes.Reader, null),
        ("POST", "/v1/grants", Takes.Admin, """{"user":"teo","topic":"berth/3","may":["subscribe"]}"""),
        ("DELETE", "/v1/grants/1", Takes.Admin, null),
        ("GET", "/v1/explain?user=mara&on=topic:berth/3", Takes.Reader, null),
        ("GET", "/v1/deciders", Takes.Admin, null),
        ("GET", "/v1/deciders/crew", Takes.Admin, null),
        ("PUT", "/v1/deciders/crew", Takes.Admin, """{"url":"https://elsewhere.example/"}"""),
        ("DELETE", "/v1/deciders/crew", Takes.Admin, null),
        ("GET", "/v1/spaces", Takes.MainAdmin, null),
        ("POST", "/v1/spaces", Takes.MainAdmin, """{"name":"x"}"""),
        ("DELETE", "/v1/spaces/harbour", Takes.MainAdmin, null),
        ("POST", "/v1/console-links", Takes.MainAdmin, """{"may":"operate"}"""),
        ("GET", "/v1/inbox", Takes.User, null),
        ("GET", "/v1/inbox/totals", Takes.User, null),
        ("GET", "/v1/inbox/{id}", Takes.User, null),
        ("POST", "/v1/inbox/marks", Takes.User, """{"read":{"all":true}}"""),
        ("POST", "/v1/inbox/{id}/take", Takes.User, "{}"),
        ("POST", "/v1/inbox/{id}/release", Takes.User, "{}"),
        ("GET", "/v1/mutes", Takes.User, null),
        ("POST", "/v1/mutes", Takes.User, """{"type":"letter"}"""),
        ("DELETE", "/v1/mutes?type=letter", Takes.User, null),
        ("GET", "/v1/follows", Takes.User, null),
        ("POST", "/v1/follows", Takes.User, """{"topic":"berth/3"}"""),
        ("DELETE", "/v1/follows?topic=berth/3", Takes.User, null),
        ("POST", "/v1/tickets", Takes.User, "{}"),
        ("GET", "/v1/live", Takes.User, null),
        ("GET", "/v1/live/{session}", Takes.User, null),
        ("POST", "/v1/live/{session}", Takes.User, """{"kind":"markRead","all":true}"""),
        ("GET", "/console/api/live?space=main", Takes.Operator, null),
        ("GET", "/console/api/access?space=main", Takes.Operator, null),
        ("GET", "/console/api/explain?space=main&user=mara&on=topic:berth/3", Takes.Operator, null),
        ("GET", "/console/api/operators", Takes.Operator, null),
        ("POST", "/console/api/operators/remove", Takes.Operator, """{"name":"ruth"}"""),
        ("POST", "/console/api/links", Takes.Operator, """{"may":"operate"}"""),
        ("POST", "/console/api/sign-out-user", Takes.Operator, """{"space":"main","user":"mara"}"""),
    ];

    public static TheoryData<string> Doors() => [.. All.Select(d => $"{d.Method} {d.Path}")];

    public static TheoryData<string> Bodies() =>
        [.. All.Where(
        d => d.Body is { Length: > 2 } && d.Method != "GET" && d.Takes is not Takes.Operator and not Takes.User && d.Path != "/v1/users")
        .Select(d => $"{d.Method} {d.Path}")];

    static readonly Dictionary<string, Func<HostileGround, string?>> Credentials = new()
    {
        ["none"] = _ => null,
        ["an empty one"] = _ => "",
        ["nonsense"] = _ => "nonsense",
        ["a token of nonsense"] = _ => "a.b.c",
        ["another space's admin key"] = g => g.HarbourKey,
        ["another space's token"] = g => TestTokens.Make(g.HarbourSecret, "mara", ["engineer"]),
        ["a revoked admin key"] = g => g.RevokedKey,
        ["a key cut short"] = g => g.S.Key[..^1],
        ["a stranger's token"] = g => TestTokens.Make("some other secret that is long enough", "mara", ["engineer"]),
        ["a token that has ended"] = g => TestTokens.Make(g.S.Secret, "mara", ["engineer"], TimeSpan.FromMinutes(-10)),
    };

    static IEnumerable<(string, Func<HostileGround, string?>)> Wrong(Takes takes)
    {
        foreach (var (name, credential) in Credentials) yield return (name, credential);
        if (takes != Takes.User)
        {
            yield return ("the user's own token", g => g.Mara);
            yield return ("another user's token", g => g.Teo);
        }
        if (takes is Takes.User or Takes.Operator) yield return ("the admin key", g => g.S.Key);
        if (takes != Takes.Sender) yield return ("a key that only sends", g => g.NarrowKey);
        if (takes is not Takes.Reader) yield return ("a key that only reads", g => g.ReadKey);
    }

    (string Method, string Path, Takes Takes, string? Body) Door(string door)
    {
        var found = All.Single(d => $"{d.Method} {d.Path}" == door);
        return found with
        {
            Path = found.Path.Replace("{id}", ground.Ids[1], StringComparison.Ordinal).Replace("{key}", "1", StringComparison.Ordinal)
            .Replace("{session}", ground.StreamSession, StringComparison.Ordinal)
        };
    }

    [Theory]
    [MemberData(nameof(Doors))]
    public async Task A_door_opens_to_no_other_credential_than_its_own(string door)
    {
        var (method, path, takes, body) = Door(door);
        foreach (var (name, credential) in Wrong(takes))
        {
            // A page's request carries what the console's own do, so that only the cookie is missing.
            var answer = await ground.S.Call(new HttpMethod(method), path, credential(ground), body, ("X-Rovett-Console", "1"));
            answer.Status.ShouldBeOneOf([401, 403], $"{name}: {answer.Text}");
            ground.Refuses(answer, name);
        }
        await ground.MaraIsUntouched(door);
        // The directory names none, as before.
        (await ground.S.Get("/v1/users/mara", ground.S.Key)).Json!["roles"]!.AsArray().ShouldBeEmpty();
        (await ground.S.Get("/v1/settings", ground.S.Key)).Json!["tokens"]!["maxLifeSeconds"]!.GetValue<int>().ShouldBe(604800);
    }

    public static TheoryData<string> Readable() =>
        [.. All.Where(d => d.Method == "GET" && d.Takes != Takes.Operator && !d.Path.StartsWith("/v1/live", StringComparison.Ordinal))
        .Select(d => $"{d.Method} {d.Path}")];

    [Theory]
    [MemberData(nameof(Readable))]
    public async Task Each_door_opens_to_the_credential_it_takes(string door)
    {
        var (_, path, takes, _) = Door(door);
        var right = takes == Takes.User ? ground.Mara : takes == Takes.Reader ? ground.ReadKey : ground.S.Key;
        var answer = await ground.S.Get(path, right);
        // There is no webhook and no decider by those names.
        answer.Status.ShouldBe(path is "/v1/webhooks/billing" or "/v1/deciders/crew" ? 404 : 200, answer.Text);
    }

    [Theory]
    [MemberData(nameof(Bodies))]
    public async Task A_body_that_is_none_is_refused_and_says_what_is_wrong(string door)
    {
        var (method, path, _, _) = Door(door);
        foreach (var body in new[] { "", "not json", "[", "7", "null", "\"x\"", "[]", "{\"\\ud800\":1}",
            new string('[', 200) + new string(']', 200),
                "{" + string.Concat(Enumerable.Range(0, 200).Select(_ => "\"a\":{")) + new string('}', 201), "{\"name\":\"a\u0000b\"}",
                    Encoding.UTF8.GetString([0x7b, 0xff, 0x7d]) })
        {
            if (body.Length == 0 && path.EndsWith("/rotate", StringComparison.Ordinal)) continue;
            var answer = await ground.S.Call(new HttpMethod(method), path, ground.S.Key, body);
            answer.Status.ShouldBeOneOf([400, 413, 422], $"{body[..Math.Min(30, body.Length)]}: {answer.Text}");
            ((string?)answer.Json!["title"]).ShouldNotBeNullOrEmpty(body);
            ((string?)answer.Json!["fix"]).ShouldNotBeNullOrEmpty(body);
        }
        await ground.MaraIsUntouched(door);
    }
}
