using System.Diagnostics;
using Rovett.Testing;
using Shouldly;
using Xunit;

namespace Rovett.Service.Tests;

public sealed class LimitTests
{
    static async Task<(int Limit, int Used)> Limit(ServiceUnderTest s, string name)
    {
        var one = (await s.Get("/v1/limits", s.Key)).Json!["limits"]!.AsArray().Single(l => (string)l!["name"]! == name)!;
        return ((int?)one["limit"] ?? 0, (int)one["used"]!);
    }

    [Fact]
    public async Task A_key_sends_so_many_a_second_and_is_told_how_it_stands()
    {
        await using var s = await ServiceUnderTest.Start();
        (await s.Call(HttpMethod.Patch, "/v1/settings", s.Key, """{"limits":{"sendsPerSecond":5}}""")).Status.ShouldBe(200);
        var other = (string)(await s.Post("/v1/keys", s.Key, """{"name":"other","scopes":["send"]}""")).Json!["key"]!;
        Task<Answer> Send(string key) => s.Post("/v1/notifications", key, """{"to":["user:mara"],"type":"t","title":"t"}""");
        var answers = await Task.WhenAll(Enumerable.Range(0, 120).Select(_ => Send(s.Key)));
        var refused = answers.Where(a => a.Status == 429).ToList();
        answers.Count(a => a.Status == 201).ShouldBeInRange(5, 100); // 5 at once, and 5 for each second that it took
        refused.ShouldNotBeEmpty();
        refused.ShouldAllBe(
            a => a.Problem == "too-many-sends" && a.Headers.RetryAfter!.Delta == TimeSpan.FromSeconds(1)
            && a.Headers.GetValues("RateLimit-Policy").Single() == "\"sends\";q=5;w=1"
            && a.Headers.GetValues("RateLimit").Single() == "\"sends\";r=0;t=1");
        (await Send(other)).Status.ShouldBe(201); // each key has its own
        (await Limit(s, "sendsPerSecond")).Limit.ShouldBe(5);
        (await s.Totals(s.Token("mara"))).Unread.ShouldBe(answers.Count(a => a.Status == 201) + 1);
        (await s.Call(HttpMethod.Patch, "/v1/settings", s.Key, """{"limits":null}""")).Status.ShouldBe(200);
        (await Task.WhenAll(Enumerable.Range(0, 20).Select(_ => Send(s.Key)))).ShouldAllBe(a => a.Status == 201);
        foreach (var bad in new[] { """{"limits":{"sendsPerSecond":-1}}""", """{"limits":{"sends":1}}""", """{"limits":7}""" })
        {
            (await s.Call(HttpMethod.Patch, "/v1/settings", s.Key, bad)).Status.ShouldBe(422, bad);
        }
    }

    [Fact]
    public async Task A_key_that_does_not_wait_as_it_was_told_is_held_up_and_no_other_key_of_its_connection()
    {
        await using var s = await ServiceUnderTest.Start();
        (await s.Call(HttpMethod.Patch, "/v1/settings", s.Key, """{"limits":{"sendsPerSecond":1}}""")).Status.ShouldBe(200);
        using var one = new HttpClient(new SocketsHttpHandler { MaxConnectionsPerServer = 1 }) { BaseAddress = s.Url };
        async Task<(int Status, TimeSpan Took)> Send(string key, int many = 0)
        {
            const string Notification = """{"to":["user:mara"],"type":"t","title":"t"}""";
            using var request = new HttpRequestMessage(HttpMethod.Post, "/v1/notifications")
            {
                Headers = { Authorization = new("Bearer", key) },
                Content = new StringContent(many == 0 ? Notification : $"[{string.Join(',', Enumerable.Repeat(Notification, many))}]", null,
                    "application/json"),
            };
            long began = Stopwatch.GetTimestamp();
            using var answer = await one.SendAsync(request);
            return ((int)answer.StatusCode, Stopwatch.GetElapsedTime(began));
        }
        bool isOtherHeld = true;
        for (int i = 0; i < 5 && isOtherHeld; i++) // once is enough: a busy machine may be slow
        {
            var other = (string)(await s.Post("/v1/keys", s.Key, $$"""{"name":"other-{{i}}","scopes":["send"]}""")).Json!["key"]!;
            long told = Stopwatch.GetTimestamp();
            while ((await Send(s.Key)).Status != 429) told = Stopwatch.GetTimestamp(); // before it was told
            var beside = await Send(other);
            beside.Status.ShouldBe(201);
            isOtherHeld = beside.Took >= TimeSpan.FromSeconds(1);
            (await Send(s.Key, many: 400)).Status.ShouldBe(200); // large: held, whatever it may send by now
            Stopwatch.GetElapsedTime(told).ShouldBeGreaterThan(TimeSpan.FromSeconds(1));
        }
        isOtherHeld.ShouldBeFalse();
    }

    [Fact]
    public async Task A_user_and_an_address_have_so_many_sessions_and_places_are_given_back()
    {
        await using var s =
            await ServiceUnderTest.Start(o => (o.SessionsPerUser, o.SessionsPerAddress, o.TrustedProxies) = (2, 3, ["127.0.0.0/8"]));
        using var one = await s.WebSocket(s.Token("mara"));
        using (var two = await s.Events(s.Token("mara")))
        {
            await two.Next("current");
            using var three = await s.WebSocket(s.Token("mara"));
            three.Status.ShouldBe(429);
            (await s.Call(HttpMethod.Get, "/v1/live", s.Token("mara"), null, ("Accept", "text/event-stream"))).Problem.ShouldBe(
                "too-many-sessions");
            using var teo = await s.WebSocket(s.Token("teo"));
            (await Limit(s, "sessionsPerUser")).ShouldBe((2, 2));
            (await Limit(s, "sessionsPerAddress")).ShouldBe((3, 3));
            using var nils = await s.WebSocket(s.Token("nils"));
            nils.Status.ShouldBe(429);
            // A proxy that is believed speaks for others; what a client adds before it is not believed.
            using var elsewhere = await s.WebSocket(s.Token("nils"), "", "X-Forwarded-For: 127.0.0.1, 198.51.100.7");
            elsewhere.Status.ShouldBe(101);
        }
        await Eventually.Holds(async () =>
        {
            using var again = await s.WebSocket(s.Token("mara"));
            return again.Status;
        }, status => status == 101, "the place is given back");
    }

    [Fact]
    public async Task A_device_that_talks_without_pause_is_read_slower_and_loses_nothing()
    {
        await using var s = await ServiceUnderTest.Start(o => o.MessagesPerSecond = 20);
        using var live = await s.WebSocket(s.Token("mara"));
        var opened = await live.Next("opened");
        await live.Next("current");
        for (int i = 0; i < 60; i++) await live.Text($$"""{"kind":"attend","subject":"x","requestId":"{{i}}"}""");
        var started = Stopwatch.GetTimestamp();
        for (int i = 0; i < 60; i++) ((string)(await live.Next("done"))["requestId"]!).ShouldBe($"{i}");
        Stopwatch.GetElapsedTime(started).ShouldBeGreaterThan(TimeSpan.FromSeconds(1)); // 20 at once, 40 at 20 a second
        var token = s.Token("teo");
        using var events = await s.Events(token);
        var session = (string)(await events.Next("opened"))["session"]!;
        var posts = await Task.WhenAll(Enumerable.Range(0, 60)
            .Select(_ => s.Post("/v1/live/" + session, token, """{"kind":"attend","subject":"x"}""")));
        posts.ShouldContain(p => p.Status == 429 && p.Problem == "too-many-messages" && p.Headers.RetryAfter != null);
        posts.ShouldContain(p => p.Status == 204);
    }

    [Fact]
    public async Task A_stream_of_receipts_ends_with_its_key()
    {
        await using var s = await ServiceUnderTest.Start(o => o.FullReceipts = ["*"]);
        var made = (await s.Post("/v1/keys", s.Key, """{"name":"reader","scopes":["read"]}""")).Json!;
        using var stream = await RawEvents.Connect(s.Port, "/v1/receipts", (string)made["key"]!);
        await stream.Next("opened");
        using var stays = await RawEvents.Connect(s.Port, "/v1/receipts", s.Key);
        await stays.Next("opened");
        (await s.Call(HttpMethod.Delete, $"/v1/keys/{made["id"]}", s.Key)).Status.ShouldBe(204);
        var id = await s.Send("user:mara");
        await s.Call(HttpMethod.Delete, "/v1/notifications/" + id, s.Key);
        ((string)(await stays.Next("receipt"))["id"]!).ShouldBe(id);
        (await stream.Next()).ShouldBeNull();
    }
}
