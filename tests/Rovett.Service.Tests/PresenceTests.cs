using System.Text.Json;
using System.Text.Json.Nodes;
using Rovett.Core.Policies;
using Rovett.Testing;
using Shouldly;
using Xunit;

namespace Rovett.Service.Tests;

/// <summary>Who is on a channel, as others are shown it.</summary>
public sealed class PresenceTests : IAsyncLifetime
{
    ServiceUnderTest s = null!;

    public ValueTask InitializeAsync() => Begin(2);

    async ValueTask Begin(int grace, TestClock? clock = null)
    {
        s = await ServiceUnderTest.Start(o => o.PresenceGraceSeconds = grace, clock: clock);
        const string policies = """
            {"policies":[
              {"name":"crew at their berth","topic":"berth/{berth}","may":["subscribe","follow","presence"],"when":{"role":"berth-{berth}"}},
              {"name":"desks see how many","topic":"berth/{berth}","may":["presence"],"shows":"count","when":{"role":"harbour-desk"}},
              {"name":"masters see who","topic":"berth/{berth}","may":["presence"],"shows":"people","when":{"role":"master"}}
            ]}
            """;
        (await s.Call(HttpMethod.Put, "/v1/policies", s.Key, policies)).Status.ShouldBe(200);
        (await s.Call(HttpMethod.Put, "/v1/users/teo", s.Key, """{"displayName":"Teo Lind"}""")).Status.ShouldBe(200);
    }

    public ValueTask DisposeAsync() => s.DisposeAsync();

    async Task<RawWebSocket> Connected(string user, params string[] roles)
    {
        var live = await s.WebSocket(s.Token(user, roles));
        await live.Next("current");
        return live;
    }

    static async Task Subscribe(RawWebSocket live) =>
        (await live.Ask("""{"kind":"subscribe","topic":"berth/3","requestId":"s"}""")).ShouldBe("done");

    static Task Watch(RawWebSocket live, string address = "topic:berth/3") => live.Text($$"""{"kind":"watch","address":"{{address}}"}""");

    static List<string> Users(JsonNode? people) =>
        [.. (people as JsonArray ?? []).Select(p => p is JsonValue ? (string)p! : (string)p!["user"]!).Order(StringComparer.Ordinal)];

    /// <summary>Reads on until as many are there: who came and who left meanwhile.</summary>
    static async Task<string> Until(RawWebSocket live, int count)
    {
        List<string> arrived = [], left = [];
        for (; ; )
        {
            var next = await live.Next("presence");
            arrived.AddRange(Users(next["arrived"]));
            left.AddRange(Users(next["left"]));
            if ((int)next["count"]! == count) return string.Join(' ', [.. arrived.Select(a => "+" + a), .. left.Select(l => "-" + l)]);
        }
    }

    [Fact]
    public async Task The_whole_list_comes_first_then_who_comes_and_goes_each_person_once_over_all_devices()
    {
        using var teo = await Connected("teo", "berth-3");
        await Subscribe(teo);
        using var ruth = await Connected("ruth", "master");
        await Watch(ruth);
        var list = await ruth.Next("presence");
        list.ContainsKey("cursor").ShouldBeFalse();
        var person = list["people"]!.AsArray().Single()!.AsObject();
        person["since"].ShouldNotBeNull();
        person.Remove("since");
        list.ToJsonString()
            .ShouldStartWith("""{"kind":"presence","of":"topic:berth/3","count":1,"people":[{"user":"teo","displayName":"Teo Lind"}""");

        using var phone = await Connected("teo", "berth-3");
        await Subscribe(phone);
        using var ivo = await Connected("ivo", "berth-3");
        // One is there by following, too.
        (await s.Post("/v1/follows", s.Token("ivo", "berth-3"), """{"topic":"berth/3"}""")).Status.ShouldBe(200);
        (await Until(ruth, 2)).ShouldBe("+ivo"); // and nothing of the second device

        phone.Cut();
        await ivo.Text("""{"kind":"unfollow","topic":"berth/3","requestId":"u"}""");
        (await Until(ruth, 1)).ShouldBe("-ivo"); // who is connected and gave it up has left at once; a device less is nothing
        teo.Cut();
        (await Until(ruth, 0)).ShouldBe("-teo");
    }

    [Fact]
    public async Task Who_comes_back_soon_was_not_away()
    {
        await s.DisposeAsync();
        var clock = new TestClock();
        await Begin(60, clock);
        using var ruth = await Connected("ruth", "master");
        await Watch(ruth);
        ((int)(await ruth.Next("presence"))["count"]!).ShouldBe(0);
        var teo = await Connected("teo", "berth-3");
        await Subscribe(teo);
        (await Until(ruth, 1)).ShouldBe("+teo");
        for (int i = 0; i < 3; i++)
        {
            teo.Cut();
            await Eventually.Holds(async () => (await s.Get("/v1/sessions", s.Key)).Text, text => !text.Contains("\"teo\""),
                "the service knows that he is gone");
            teo.Dispose();
            teo = await Connected("teo", "berth-3");
            await Subscribe(teo);
        }
        clock.Advance(TimeSpan.FromMinutes(2));
        using var ivo = await Connected("ivo", "berth-3");
        await Subscribe(ivo);
        (await Until(ruth, 2)).ShouldBe("+ivo");
        teo.Dispose();
    }

    [Fact]
    public async Task Policies_decide_who_sees_it_and_whether_by_name_and_a_lost_right_bites()
    {
        using var teo = await Connected("teo", "berth-3");
        await Subscribe(teo);
        using var pia = await Connected("pia", "harbour-desk");
        await Watch(pia);
        (await pia.Next("presence")).ToJsonString().ShouldBe("""{"kind":"presence","of":"topic:berth/3","count":1}""");
        using var hedda = await Connected("hedda", "engineer");
        (await hedda.Ask("""{"kind":"watch","address":"topic:berth/3","requestId":"w"}""")).ShouldBe("not-allowed");
        (await hedda.Ask("""{"kind":"watch","address":"topic:berth/none","requestId":"w"}""")).ShouldBe("not-allowed");
        (await hedda.Ask("""{"kind":"watch","address":"everyone","requestId":"w"}""")).ShouldBe("invalid-fields");
        (await hedda.Ask("""{"kind":"watch","requestId":"w"}""")).ShouldBe("invalid-fields");

        using var both = await Connected("both", "harbour-desk", "master");
        await Watch(both);
        Users((await both.Next("presence"))["people"]).ShouldBe(["teo"]); // what shows people comes first

        using var ruth = await Connected("ruth", "master");
        await Watch(ruth);
        Users((await ruth.Next("presence"))["people"]).ShouldBe(["teo"]);
        // A newer token without the role.
        (await s.Get("/v1/inbox/totals",
            TestTokens.Make(s.Secret, "ruth", ["engineer"], change: c => c["iat"] = (double)c["iat"]! + 5))).Status.ShouldBe(200);
        using var canary = await Connected("canary", "berth-3");
        await Subscribe(canary);
        (await ruth.Next("presence")).ToJsonString().ShouldBe("""{"kind":"presence","of":"topic:berth/3","ended":true}""");
        (await pia.Next("presence")).ToJsonString().ShouldBe("""{"kind":"presence","of":"topic:berth/3","count":2}""");
        await s.Send("everyone", "The end");
        for (JsonObject next; (string)(next = (await ruth.Next())!)["kind"]! != "notification";)
        {
            next.ToJsonString().ShouldNotContain("canary");
        }
        (await s.Get("/v1/explain?user=pia&on=topic:berth/3", s.Key)).Text.ShouldContain("presence");
    }

    [Fact]
    public void A_backend_that_says_yes_gives_no_more_than_the_policy_that_asked_it_shows()
    {
        using var document =
            JsonDocument.Parse(
            """{"policies":[{"name":"asked","topic":"berth/{berth}","may":["presence"],"shows":"count","ask":"office","when":{"anyone":true}}]}""");
        var errors = new List<FieldError>();
        var policies = PolicyReader.Read(document.RootElement, errors);
        errors.ShouldBeEmpty();
        var answer = new Grant(7, 1, "", "berth/3", TopicRights.Presence, null, null, "asked", "");
        var decision = policies.Decide(new Anybody(), "berth/3", TopicRights.Presence, [answer]);
        (decision.Allowed, decision.CountOnly).ShouldBe((true, true));
        var given = policies.Decide(new Anybody(), "berth/3", TopicRights.Presence, [answer with { Policy = "" }]);
        (given.Allowed, given.CountOnly).ShouldBe((true, false));
    }

    sealed class Anybody : IUserFacts
    {
        public string User => "mara";
        public bool HoldsRole(string role) => false;
        public IReadOnlyList<string> Claim(string path) => [];
    }

    [Fact]
    public async Task A_role_shows_its_members_to_each_other_where_it_is_set_so_and_to_nobody_else()
    {
        using var mara = await Connected("mara", "engineer");
        (await mara.Ask("""{"kind":"watch","address":"role:engineer","requestId":"w"}""")).ShouldBe("not-allowed");
        (await s.Call(HttpMethod.Put, "/v1/roles/engineer", s.Key, """{"presence":"everybody"}""")).Problem.ShouldBe("invalid-fields");
        ((string)(await s.Call(HttpMethod.Put, "/v1/roles/engineer", s.Key, """{"presence":"members"}""")).Json!["presence"]!).ShouldBe(
            "members");
        await Watch(mara, "role:engineer");
        Users((await mara.Next("presence"))["people"]).ShouldBe(["mara"]);
        using var pia = await Connected("pia", "harbour-desk");
        (await pia.Ask("""{"kind":"watch","address":"role:engineer","requestId":"w"}""")).ShouldBe("not-allowed");
        using var teo = await Connected("teo", "engineer");
        (await Until(mara, 2)).ShouldBe("+teo");
        // Nobody any more: it ends for whoever looks.
        (await s.Call(HttpMethod.Put, "/v1/roles/engineer", s.Key, """{"presence":"nobody"}""")).Status.ShouldBe(200);
        (await mara.Next("presence")).ToJsonString().ShouldBe("""{"kind":"presence","of":"role:engineer","ended":true}""");
    }

    [Fact]
    public async Task Of_very_many_only_the_number_is_told_and_of_fewer_again_each()
    {
        const int Many = 205;
        using var ruth = await Connected("ruth", "master");
        await Watch(ruth);
        ((int)(await ruth.Next("presence"))["count"]!).ShouldBe(0);
        var crew = new List<RawWebSocket>();
        try
        {
            for (int i = 0; i < Many; i++)
            {
                crew.Add(await Connected($"crew-{i}", "berth-3"));
                await Subscribe(crew[^1]);
            }
            JsonObject next;
            do next = await ruth.Next("presence");
            while ((int)next["count"]! < Many);
            (next.ContainsKey("people"), next.ContainsKey("arrived")).ShouldBe((false, false));
            foreach (var one in crew.Take(10)) await one.Text("""{"kind":"unsubscribe","topic":"berth/3"}""");
            do next = await ruth.Next("presence");
            while ((int)next["count"]! > 200);
            Users(next["people"]).Count.ShouldBe((int)next["count"]!);
        }
        finally
        {
            foreach (var one in crew) one.Dispose();
        }
    }

    [Fact]
    public async Task Looking_twice_is_looking_once_and_who_looks_away_is_shown_nothing()
    {
        using var ruth = await Connected("ruth", "master");
        await Watch(ruth);
        (await ruth.Ask("""{"kind":"watch","address":"topic:berth/3","requestId":"again"}""")).ShouldBe("done"); // twice is once
        (await ruth.Ask("""{"kind":"unwatch","address":"topic:berth/3","requestId":"off"}""")).ShouldBe("done");
        using var teo = await Connected("teo", "berth-3");
        await Subscribe(teo);
        await Watch(ruth);
        Users((await ruth.Next("presence"))["people"]).ShouldBe(["teo"]); // and nothing came in between
    }
}
