using System.Text.Json.Nodes;
using Shouldly;
using Xunit;

namespace Rovett.Service.Tests.Hostile;

/// <summary>Names of topics that look like Mara's, or like patterns, or like nothing that should be: Teo gets none of hers.</summary>
public sealed class HostileTopicTests(HostileGround ground) : IClassFixture<HostileGround>
{
    public static readonly TheoryData<string> Tricks =
    [
        "person/mara/letters", "person/mara", "person/mara/x", "berth/3", "vessel/turnstone",
        "person/teo/../mara/letters", "person/./mara/letters", "person//mara/letters", "/person/mara/letters", "person/mara/letters/",
            "person/teo//letters",
        "PERSON/mara/letters", "Person/Mara/letters", "person/MARA/letters", "person/mara%2fletters", "person%2Fmara%2Fletters",
            "person\\/mara\\/letters".Replace("\\/", "\\\\"),
        "person/{user}/letters", "person/*/letters", "person/**", "person/#", "person/+/letters", "person/mara/#", "*", "**", "{any...}",
            "person/{rest...}", "berth/{berth}",
        "person/teo\\u0000/mara/letters", "person/teo\\n/mara", "person/mara\\u0000", "person/mara\\r\\n/letters", "person/mara\\t/letters",
        "person/mara\\u200b/letters", "person/mara\\u200d/letters", "person/mara\\u00ad/letters", "\\ufeffperson/mara/letters",
            "person/\\u202emara/letters", "person/mara\\u2060/letters",
        "person\\uff0fmara\\uff0fletters", "person\\u2215mara\\u2215letters", "person\\u2044mara\\u2044letters",
            "person/\\uff4d\\uff41\\uff52\\uff41/letters", "person/m\\u0430ra/letters", "person/\\u217fara/letters",
        "person/mara\\u00a0/letters", "person/mara\\u3000/letters", "person/ mara/letters", "person/mara /letters", " person/mara/letters",
            "person/mara\\u2028/letters",
        "person/mar\\u0061\\u0301/letters", "berth/\\u0663", "berth/\\uff13", "berth/03", "berth/3.0", "berth/3\\u0000", "berth/3/",
            "berth/+3", "berth/3?x=1", "berth/3;role=berth-3", "berth/3#x",
        "topic:person/mara/letters", "user:mara", "role:engineer", "everyone", "topic:berth/3", "person/mara/letters\\ud800",
            "\\udc00berth/3", "", ".", "..", "/", "//",
        "vessel/turnstone,kittiwake", "vessel/[\\\"turnstone\\\"]", "vessel/{vessel}", "vessel/undefined", "vessel/null",
    ];

    [Theory, MemberData(nameof(Tricks))]
    public async Task A_topic_that_is_not_ones_own_is_refused_however_it_is_written(string written)
    {
        var s = ground.S;
        using var live = await s.WebSocket(ground.Teo);
        await live.Next("current");
        foreach (var kind in new[] { "subscribe", "follow" })
        {
            await live.Text($$"""{"kind":"{{kind}}","topic":"{{written}}","requestId":"r"}""");
            var refused = await live.Next("refused");
            refused.ToJsonString().ShouldNotContain(ground.Canary);
        }
        await live.Text($$"""{"kind":"subscribe","topic":"{{written}}","after":"{{ground.MarasCursor}}","requestId":"r"}""");
        await live.Next("refused");
        ground.Refuses(await s.Post("/v1/follows", ground.Teo, $$"""{"topic":"{{written}}"}"""), written);
        var channels = (await s.Get("/v1/sessions", s.Key)).Json!["sessions"]!.AsArray().Where(x => (string)x!["user"]! == "teo")
            .SelectMany(x => x!["channels"]!.AsArray().Select(c => (string)c!));
        channels.ShouldBeSubsetOf(["user:teo", "role:deckhand", "everyone"]);
        await ground.HearsNothing(live, "teo", written);
        (await s.Get("/v1/inbox", ground.Teo)).Text.ShouldNotContain(ground.Canary);
        await ground.MaraIsUntouched(written);
    }

    public static readonly TheoryData<string> Malformed =
    [
        """{"kind":"subscribe"}""", """{"kind":"subscribe","topic":null}""", """{"kind":"subscribe","topic":3}""",
            """{"kind":"subscribe","topic":["person/mara/letters"]}""",
        """{"kind":"subscribe","topic":{"name":"person/mara/letters"}}""",
            """{"kind":"subscribe","topic":"person/teo/x","after":"nonsense"}""",
                """{"kind":"subscribe","topic":"person/teo/x","after":7}""",
        """{"kind":"follow","topic":"person/teo/x","after":"AAAAAAAAAAAAAAAAAAAAAA"}""",
            """{"kind":"subscribe","topics":["person/mara/letters"]}""", """{"kind":"Subscribe","topic":"person/mara/letters"}""",
        """{"kind":"say","topic":"person/mara/letters"}""", """{"kind":"grant","topic":"person/mara/letters"}""",
    ];

    [Theory, MemberData(nameof(Malformed))]
    public async Task A_message_about_a_topic_that_is_none_is_refused_and_the_session_goes_on(string message)
    {
        using var live = await ground.S.WebSocket(ground.Teo);
        await live.Next("current");
        await live.Text(message);
        (await live.Next("refused"))["problem"]!["fix"].ShouldNotBeNull();
        await ground.HearsNothing(live, "teo", message);
    }

    [Fact]
    public async Task One_name_in_two_Unicode_forms_is_one_topic_for_policies_and_for_delivery()
    {
        var s = ground.S;
        var composed = s.Token("m\u00e4ra");
        using var live = await s.WebSocket(composed);
        await live.Next("current");
        await live.Text("""{"kind":"subscribe","topic":"person/ma\u0308ra/x","requestId":"r"}""");
        await live.Next("done");
        (await s.Post("/v1/notifications", s.Key, """{"to":["topic:person/m\u00e4ra/x"],"type":"t","title":"one form"}""")).Status.ShouldBe(
            201);
        ((string)(await live.Next("notification"))["title"]!).ShouldBe("one form");
    }

    [Fact]
    public async Task Ten_thousand_guessed_topics_get_nothing_and_fill_no_trail()
    {
        var s = ground.S;
        using var live = await s.WebSocket(ground.Teo);
        await live.Next("current");
        var random = new Random(11);
        string[] parts = ["person", "mara", "teo", "berth", "3", "letters", "vessel", "turnstone", "..", ".", "", "*", "{x}", "%2f", "MARA",
            "m\\u0430ra", "\\u200b", "topic:"];
        const int total = 10_000, chunk = 100;
        for (int sent = 0; sent < total; sent += chunk)
        {
            for (int i = 0; i < chunk; i++)
            {
                var name = string.Join('/', Enumerable.Range(0, random.Next(1, 5)).Select(_ => parts[random.Next(parts.Length)]));
                if (name.StartsWith("person/teo/", StringComparison.Ordinal)) name = "x" + name; // that would be his own
                await live.Text($$"""{"kind":"{{(random.Next(2) == 0 ? "subscribe" : "follow")}}","topic":"{{name}}"}""");
            }
            for (int i = 0; i < chunk; i++) (await live.Next("refused")).ToJsonString().ShouldNotContain(ground.Canary);
        }
        await ground.HearsNothing(live, "teo", "guessed");
        JsonArray acts;
        int lines = 0;
        long after = 0;
        do
        {
            acts = (await s.Get("/v1/audit?after=" + after, s.Key)).Json!["acts"]!.AsArray();
            lines += acts.Count;
            if (acts.Count > 0) after = (long)acts[^1]!["number"]!;
        }
        while (acts.Count > 0);
        lines.ShouldBeLessThan(2000); // the same once, and some a second at most
    }
}
