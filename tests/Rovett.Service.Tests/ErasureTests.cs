using Rovett.Testing;
using Shouldly;
using Xunit;
using static Rovett.Service.Tests.Events.EventGround;

namespace Rovett.Service.Tests;

/// <summary>A person is erased: what is left, where, and who can't come back.</summary>
public sealed class ErasureTests : IDisposable
{
    readonly string folder = Directory.CreateTempSubdirectory("rovett-erasure-").FullName;

    public void Dispose() => Directory.Delete(folder, recursive: true);

    [Theory]
    [InlineData("")]
    [InlineData("sign-out")]
    [InlineData("block")]
    public async Task Old_credentials_stay_out_and_fresh_ones_are_another_persons(string before)
    {
        var clock = new TestClock();
        await using var s = await ServiceUnderTest.Start(o => o.Spaces = ["harbour"], clock: clock);
        var (old, other) = (s.Token("teo", "deckhand"), s.Token("ivo"));
        var (opened, unopened) = (await Ticket(old), await Ticket(old));
        async Task<string> Ticket(string token) => (string)(await s.Post("/v1/tickets", token, "{}")).Json!["ticket"]!;
        using (var stream = await s.Events(null, $"?ticket={opened}&device=phone")) await stream.Next("current");
        await s.Send("user:teo");
        if (before == "sign-out") (await s.Post("/v1/users/teo/sign-out", s.Key, "")).Status.ShouldBe(200);
        if (before == "block") (await s.Call(HttpMethod.Put, "/v1/users/teo", s.Key, """{"blocked":true}""")).Status.ShouldBe(200);
        (await s.Call(HttpMethod.Delete, "/v1/users/teo", s.Key)).Status.ShouldBe(200);
        async Task AllOut()
        {
            foreach (var path in new[] { "/v1/inbox", "/v1/inbox/totals", "/v1/mutes", "/v1/follows", "/v1/live" })
            {
                (await s.Get(path, old)).Problem.ShouldBe("signed-out", path);
            }
            (await s.Post("/v1/tickets", old, "{}")).Problem.ShouldBe("signed-out");
            (await s.Get($"/v1/live?ticket={opened}&device=phone", null)).Problem.ShouldBe("ticket-unknown");
            (await s.Get($"/v1/live?ticket={unopened}", null)).Problem.ShouldBe("ticket-unknown");
        }
        await AllOut();
        (await s.Get("/v1/users/teo", s.Key)).Status.ShouldBe(404); // being refused made nobody
        (await s.Get("/v1/inbox/totals", other)).Status.ShouldBe(200);
        await s.Restart();
        await AllOut();
        await s.Send("user:teo", "For another of that name");
        await AllOut();
        (await s.Totals(s.Token("teo"))).Unread.ShouldBe(1);
        await AllOut();
        // Erased once more, and still; until no token of before can run.
        (await s.Call(HttpMethod.Delete, "/v1/users/teo", s.Key)).Status.ShouldBe(200);
        await AllOut();
        clock.Advance(TimeSpan.FromDays(8));
        await Eventually.Holds(() => s.Count("SELECT count(*) FROM tombstone") == 0, "the tombstone is gone");
    }

    /// <summary>Everything that may keep something of teo, with words that stand nowhere else.</summary>
    static async Task Live(ServiceUnderTest s, int notifications)
    {
        async Task<string> Send(string more, string to)
        {
            var answer = await s.Post("/v1/notifications", s.Key,
                $$"""{"to":[{{to}}],"type":"crew.notice","title":"A notice"{{(more.Length > 0 ? "," + more : "")}}}""");
            answer.Status.ShouldBe(201, answer.Text);
            return (string)answer.Json!["id"]!;
        }
        var teo = s.Token("teo-canary", "deckhand");
        using (var live = await s.WebSocket(teo, "?device=device-canary&label=label-canary"))
        {
            await live.Next("current");
            for (int i = 0; i < notifications; i++)
            {
                await Send($"\"body\":\"text-canary-{i}\",\"subject\":\"subject-canary/{i}\",\"data\":{{\"word\":\"data-canary\"}}",
                    "\"user:teo-canary\"");
            }
            await live.Text("""{"kind":"markRead","all":true,"requestId":"1"}""");
            await live.Next("done");
        }
        await Send("\"slot\":\"slot\"", "\"user:teo-canary\",\"user:ivo\"");
        await Send("\"except\":[\"user:teo-canary\"]", "\"role:deckhand\"");
        await Send("\"deadlines\":[{\"by\":\"read\",\"within\":\"P1D\",\"otherwise\":{\"to\":[\"user:teo-canary\"],\"type\":\"t\",\"title\":\"otherwise-canary\"}}]", "\"user:ivo\"");
        await Send("\"deadlines\":[{\"by\":\"read\",\"within\":\"P1D\",\"otherwise\":{\"to\":[\"user:teo-canary\",\"user:ruth\"],\"type\":\"t\",\"title\":\"for ruth too\"}}]", "\"user:ivo\"");
        var job = await Send("\"takeable\":true,\"deadlines\":[{\"by\":\"read\",\"within\":\"PT1S\",\"who\":\"each\"}]",
            "\"role:deckhand\"");
        (await s.Post($"/v1/inbox/{job}/take", teo, "{}")).Status.ShouldBe(200);
        await Eventually.Holds(async () => (await s.Get("/v1/receipts", s.Key)).Text, text => text.Contains("missingUsers\":[\"teo-canary"),
            "the deadline is missed", 20);
        (await s.Call(HttpMethod.Put, "/v1/users/teo-canary", s.Key,
            """{"displayName":"name-canary","locale":"xx-canary","roles":["deckhand"]}""")).Status.ShouldBe(200);
        (await s.Post("/v1/mutes", teo, """{"subject":"mute-canary"}""")).Status.ShouldBe(200);
        (await s.Call(HttpMethod.Put, "/v1/policies", s.Key,
            """{"policies":[{"name":"all","topic":"{any...}","may":["subscribe","follow"],"when":{"anyone":true}}]}""")).Status.ShouldBe(
            200);
        (await s.Post("/v1/follows", teo, """{"topic":"own/topic-canary"}""")).Status.ShouldBe(200);
        (await s.Post("/v1/grants", s.Key, """{"user":"teo-canary","topic":"granted/topic-canary","may":["say"]}""")).Status.ShouldBe(201);
        (await s.Post("/v1/tickets", teo, "{}")).Status.ShouldBe(201);
        await s.Load("rules: [{ name: Crew changed, event: crew.changed, to: [\"role:mate\"], notification: { title: A change, subject: crew } }]");
        (await s.Call(HttpMethod.Patch, "/v1/settings", s.Key, """{"keepEventData":true}""")).Status.ShouldBe(200);
        var happened = await s.Publish(Event("e1", """{"who":"teo-canary","word":"data-canary"}""", "crew.changed",
            more: ",\"subject\":\"crew/teo-canary\""));
        happened.Status.ShouldBe(200, happened.Text);
    }

    static List<string> Canaries(string folder) =>
        [.. Directory.EnumerateFiles(folder, "*", SearchOption.AllDirectories).Where(f => Path.GetFileName(f) != "serve.lock")
        .SelectMany(file => Found(file).Select(word => $"{Path.GetFileName(file)}: {word}"))];

    static IEnumerable<string> Found(string file)
    {
        var text = LiveFile.Text(file);
        for (int at = text.IndexOf("canary", StringComparison.Ordinal); at >= 0; at = text.IndexOf("canary", at + 1,
            StringComparison.Ordinal))
            yield return string.Concat(text.AsSpan(Math.Max(0, at - 20), Math.Min(40, text.Length - Math.Max(0, at - 20))).ToString()
                .Where(c => c is >= ' ' and <= '~'));
    }

    [Fact]
    [Trait("home", "folder")]
    public async Task Nothing_of_an_erased_person_is_left_in_any_table_and_soon_not_in_any_file()
    {
        var s = await ServiceUnderTest.Start(o => (o.FullReceipts, o.ReconnectWindowSeconds) = (["*"], 0), folder: folder);
        await Live(s, 60);
        Canaries(folder).Count.ShouldBeGreaterThan(100, "the words are found as long as they are there");
        var answer = await s.Call(HttpMethod.Delete, "/v1/users/teo-canary", s.Key);
        answer.Status.ShouldBe(200, answer.Text);
        ((int)answer.Json!["notifications"]!).ShouldBe(62);
        (await s.Call(HttpMethod.Delete, "/v1/users/teo-canary", s.Key)).Status.ShouldBe(404);
        await Eventually.Holds(() => Canaries(folder).Where(c => !c.Contains("topic-canary")).ToList().Count == 0,
            "overwritten while it runs", 60);
        // The rest of what named others too is there.
        (await s.Totals(s.Token("ivo"))).Unread.ShouldBe(3);
        var happened = (await s.Get("/v1/events?source=/planning/1&id=e1", s.Key)).Json!;
        ((string)happened["subject"]!, happened["event"]).ShouldSatisfyAllConditions(e => e.Item1.ShouldStartWith("crew/erased"),
            e => e.Item2.ShouldBeNull());
        using (var console = new HttpClient()) (await console.GetStringAsync(new Uri(s.Url, "/healthz"))).ShouldBe("ok\n");
        await s.Service.DisposeAsync();
        // Topics are the application's names, not the person's: the grant's own entry names one.
        Canaries(folder).Where(c => !c.Contains("topic-canary")).ShouldBeEmpty();
        s.Count("SELECT count(*) FROM erasure").ShouldBe(0);
    }

    [Fact]
    public async Task An_erasure_goes_on_when_nobody_waits_for_it_any_more()
    {
        var s = await ServiceUnderTest.Start(folder: folder);
        for (int i = 0; i < 3000; i += 50)
        {
            await Task.WhenAll(Enumerable.Range(i, 50).Select(n => s.Send("user:teo-canary", $"text-canary-{n}")));
        }
        using (var gone = new CancellationTokenSource())
        using (var http = new HttpClient())
        {
            using var request = new HttpRequestMessage(HttpMethod.Delete, new Uri(s.Url, "/v1/users/teo-canary"));
            request.Headers.TryAddWithoutValidation("Authorization", "Bearer " + s.Key);
            var cut = http.SendAsync(request, gone.Token);
            await Eventually.Holds(() => s.Count("SELECT count(*) FROM erasure") == 1, "it began");
            await gone.CancelAsync();
            await Should.ThrowAsync<OperationCanceledException>(() => cut);
        }
        await Eventually.Holds(async () => (long)(await s.Get("/v1/status", s.Key)).Json!["erasures"]!, n => n == 0, "it is done");
        (await s.Call(HttpMethod.Delete, "/v1/users/teo-canary", s.Key)).Status.ShouldBe(404);
        (await s.Get("/v1/audit", s.Key)).Text.ShouldContain("user.erased");
        await s.Service.DisposeAsync();
        Canaries(folder).ShouldBeEmpty();
    }
}
