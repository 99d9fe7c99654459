using System.Diagnostics;
using System.Globalization;
using System.Net;
using System.Net.Sockets;
using System.Text;
using Rovett.Testing;
using Shouldly;
using Xunit;

namespace Rovett.Service.Tests;

/// <summary>One who does more than anybody should: others hardly notice.</summary>
public sealed class AbuseTests
{
    const string Elsewhere = "127.0.0.2";

    [Fact]
    public async Task Each_message_of_a_request_counts()
    {
        await using var s = await ServiceUnderTest.Start(o => o.MessagesPerSecond = 20);
        var token = s.Token("mara");
        using var events = await s.Events(token);
        var path = "/v1/live/" + (string)(await events.Next("opened"))["session"]!;
        string Many(int count) => "[" + string.Join(',', Enumerable.Repeat("""{"kind":"attend","subject":"x"}""", count)) + "]";
        var started = Stopwatch.GetTimestamp();
        var answers = await Task.WhenAll(Enumerable.Range(0, 10).Select(_ => s.Post(path, token, Many(100))));
        double seconds = Stopwatch.GetElapsedTime(started).TotalSeconds;
        answers.Count(a => a.Status == 204).ShouldBeInRange(1, 1 + (int)(seconds * 20 / 81),
            "the first post, then one more for every 81 messages that the rate allows");
        var refused = await s.Post(path, token, Many(1));
        (refused.Status, refused.Problem).ShouldBe((429, "too-many-messages"));
        refused.Headers.RetryAfter!.Delta!.Value.ShouldBeGreaterThan(TimeSpan.FromSeconds(1)); // the debt of a hundred at 20 a second
        (await s.Post(path, token, Many(101))).Status.ShouldBeOneOf(422, 429);
    }

    [Theory]
    [InlineData("webhook", "0")]
    [InlineData("webhook", "Thu, 01 Jan 1970 00:00:00 GMT")]
    [InlineData("decider", "0")]
    public async Task A_backend_that_says_come_back_at_once_is_not_called_all_the_time(string who, string retryAfter)
    {
        await using var backend = new CalledBackend { Answer = _ => (503, ""), RetryAfter = retryAfter };
        await using var s = await ServiceUnderTest.Start(o => (o.WebhookNetworks, o.FullReceipts) = (["127.0.0.1/32"], ["*"]));
        var started = Stopwatch.GetTimestamp();
        if (who == "webhook")
        {
            (await s.Call(HttpMethod.Put, "/v1/webhooks/backend", s.Key, $$"""{"url":"{{backend.Url}}"}""")).Status.ShouldBe(201);
            var id = await s.Send("user:mara");
            (await s.Call(HttpMethod.Delete, "/v1/notifications/" + id, s.Key)).Status.ShouldBe(200);
            await Eventually.Holds(() => Task.FromResult(backend.Calls.Count), n => n >= 2, "it is tried again");
        }
        else
        {
            (await s.Call(HttpMethod.Put, "/v1/deciders/rota", s.Key, $$"""{"url":"{{backend.Url}}"}""")).Status.ShouldBe(201);
            (await s.Call(HttpMethod.Put, "/v1/policies", s.Key,
                """{"policies":[{"name":"rota decides","topic":"berth/{berth}","may":["subscribe"],"when":{"anyone":true},"ask":"rota"}]}""")).Status.ShouldBe(200);
            using var live = await s.WebSocket(s.Token("teo"));
            await live.Next("current");
            for (int i = 0; i < 300; i++) await live.Text($$"""{"kind":"subscribe","topic":"berth/{{i}}","requestId":"{{i}}"}""");
            for (int i = 0; i < 300; i++) (await live.Next("refused"))["requestId"].ShouldNotBeNull();
            await Eventually.Holds(async () =>
            {
                await live.Text("""{"kind":"subscribe","topic":"berth/again","requestId":"again"}""");
                await live.Next("refused");
                return backend.Calls.Count;
            }, n => n >= 2, "it is asked again");
        }
        double seconds = Stopwatch.GetElapsedTime(started).TotalSeconds;
        backend.Calls.Count.ShouldBeLessThanOrEqualTo((int)(3 + (2 * seconds)), "calls");
    }

    [Fact]
    public async Task A_backend_that_names_a_date_is_left_alone_until_then()
    {
        await using var backend = new CalledBackend
        { Answer = _ => (503, ""), RetryAfter = DateTimeOffset.UtcNow.AddMinutes(10).ToString("R", CultureInfo.InvariantCulture) };
        await using var s = await ServiceUnderTest.Start(o => (o.WebhookNetworks, o.FullReceipts) = (["127.0.0.1/32"], ["*"]));
        (await s.Call(HttpMethod.Put, "/v1/webhooks/backend", s.Key, $$"""{"url":"{{backend.Url}}"}""")).Status.ShouldBe(201);
        await s.Call(HttpMethod.Delete, "/v1/notifications/" + await s.Send("user:mara"), s.Key);
        var shown = await Eventually.Holds(() => s.Get("/v1/webhooks/backend", s.Key), a => a.Json!["nextTry"] is not null,
            "it says when it tries again");
        (DateTimeOffset.Parse((string)shown.Json!["nextTry"]!, CultureInfo.InvariantCulture) - DateTimeOffset.UtcNow).ShouldBeInRange(
            TimeSpan.FromMinutes(9), TimeSpan.FromMinutes(11));
    }

    [Fact]
    public async Task Sends_come_between_the_steps_of_marking_much()
    {
        await using var s = await ServiceUnderTest.Start();
        var token = s.Token("mara", "engineer");
        (await s.Get("/v1/inbox", token)).Status.ShouldBe(200);
        // Of every three two are about one subject, never all side by side.
        await Parallel.ForEachAsync(Enumerable.Range(0, 9000), new ParallelOptions { MaxDegreeOfParallelism = 64 }, async (i, _) =>
            (await s.Post("/v1/notifications", s.Key,
            $$"""{"to":["role:engineer"],"type":"t","title":"t","subject":"{{(i % 3 == 0 ? "rest" : "job 4711")}}"}""")).Status.ShouldBe(
            201));
        var marking = s.Post("/v1/inbox/marks", token, """{"read":{"subject":"job 4711"}}""");
        int sent = 0;
        for (; !marking.IsCompleted; sent++) await s.Send("user:teo");
        (await marking).Json!["totals"]!["unread"]!.GetValue<long>().ShouldBe(3000);
        sent.ShouldBeGreaterThan(4, "sends answered while 6,000 were marked");
        (await s.Totals(token)).Unread.ShouldBe(3000);
    }

    [Fact]
    public async Task Who_waits_without_a_word_makes_room_for_a_page_from_elsewhere()
    {
        await using var s = await ServiceUnderTest.Start(o => o.MaxUnauthenticated = 10);
        var silent = new List<RawWebSocket>();
        try
        {
            for (int i = 0; i < 10; i++)
            {
                silent.Add(await RawWebSocket.ConnectFrom(Elsewhere, s.Port, "/v1/live", null));
                silent[^1].Status.ShouldBe(101);
            }
            using (var page = await s.WebSocket(null))
            {
                page.Status.ShouldBe(101);
                // The oldest goes.
                ((string)(await silent[0].Next("refused"))["problem"]!["type"]!).ShouldEndWith("too-many-unauthenticated");
                await page.Text($$"""{"kind":"renew","token":"{{s.Token("mara")}}"}""");
                await page.Next("current");
            }
            // Of one's own network nobody is put out who has just come: in a rush nobody would get to say a word.
            silent.Add(await RawWebSocket.ConnectFrom(Elsewhere, s.Port, "/v1/live", null));
            using (var young = await RawWebSocket.ConnectFrom(Elsewhere, s.Port, "/v1/live", null)) young.Status.ShouldBeOneOf(503, 101);
            await Eventually.Holds(async () =>
            {
                var next = await RawWebSocket.ConnectFrom(Elsewhere, s.Port, "/v1/live", null);
                silent.Add(next);
                return next.Status;
            }, status => status == 101, "one who has waited for a second goes");
        }
        finally
        {
            foreach (var one in silent) one.Dispose();
        }
    }

    [Fact]
    public async Task Refused_tickets_are_told_why_only_to_so_many_at_a_time()
    {
        await using var s = await ServiceUnderTest.Start();
        var refused = new List<RawWebSocket>();
        try
        {
            var clock = Stopwatch.StartNew();
            for (int i = 0; i < 130; i++) refused.Add(await RawWebSocket.ConnectFrom(Elsewhere, s.Port, "/v1/live?ticket=no-such", null));
            // Who has been there for a second may be put out for the next.
            int told = refused.Count(r => r.Status == 101), most = 100 * (1 + (int)clock.Elapsed.TotalSeconds);
            told.ShouldBeInRange(90, most);
            refused.Count(r => r.Status == 401).ShouldBe(130 - told);
            using var other = await s.WebSocket(null, "?ticket=no-such");
            ((string)(await other.Next("refused"))["problem"]!["type"]!).ShouldEndWith("ticket-unknown");
        }
        finally
        {
            foreach (var one in refused) one.Dispose();
        }
    }

    [Fact]
    public async Task Connections_are_shared_and_sessions_keep_theirs()
    {
        await using var s = await ServiceUnderTest.Start(o => o.MaxConnections = 20);
        using var session = await RawWebSocket.ConnectFrom(Elsewhere, s.Port, "/v1/live", s.Token("mara"));
        await session.Next("current");
        var idle = new List<TcpClient>();
        try
        {
            for (int i = 0; i < 40; i++)
            {
                var client = new TcpClient(new IPEndPoint(IPAddress.Parse(Elsewhere), 0));
                idle.Add(client);
                try
                {
                    await client.ConnectAsync(IPAddress.Loopback, s.Port);
                }
                catch (SocketException)
                {
                    // There were as many as may be.
                }
            }
            for (int i = 0; i < 10; i++) (await s.Send("user:mara")).Length.ShouldBe(26);
            var limits = (await s.Get("/v1/limits", s.Key)).Json!["limits"]!.AsArray()
                .Single(l => (string)l!["name"]! == "maxConnections")!;
            ((int)limits["limit"]!, (int)limits["used"]!).ShouldBe((20, 20));
            (await session.Notifications(10)).Count.ShouldBe(10);
            await session.Text("""{"kind":"attend","subject":"x","requestId":"still here"}""");
            await session.Next("done");
        }
        finally
        {
            foreach (var one in idle) one.Dispose();
        }
    }

    [Fact]
    public async Task An_answer_that_nobody_reads_ends_with_its_connection_and_a_quiet_stream_does_not()
    {
        await using var s = await ServiceUnderTest.Start(o => o.MinReadBytesPerSecond = 1_000_000);
        var token = s.Token("mara");
        for (int i = 0; i < 100; i++)
        {
            await s.Post("/v1/notifications", s.Key,
                $$"""{"to":["user:mara"],"type":"t","title":"t","body":"{{new string('x', 3900)}}"}""");
        }
        using var stream = await s.Events(token);
        await stream.Next("opened"); // and is not read on
        using var slow = new TcpClient { ReceiveBufferSize = 4096 };
        await slow.ConnectAsync(IPAddress.Loopback, s.Port);
        var request =
            Encoding.ASCII.GetBytes(
            string.Concat(Enumerable.Repeat($"GET /v1/inbox?limit=100 HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer {token}\r\n\r\n", 20)));
        await slow.GetStream().WriteAsync(request);
        // Its own requests are what it notices the end by.
        var waited = Stopwatch.StartNew();
        await Should.ThrowAsync<IOException>(async () =>
        {
            for (; waited.Elapsed < TimeSpan.FromSeconds(30); await Task.Delay(50)) await slow.GetStream().WriteAsync("\r\n"u8.ToArray());
        });
        await stream.Notifications(100);
    }

    [Fact]
    public async Task What_one_user_is_refused_leaves_room_for_others()
    {
        await using var s = await ServiceUnderTest.Start();
        async Task Try(string user, int topics)
        {
            using var live = await s.WebSocket(s.Token(user));
            await live.Next("current");
            for (int i = 0; i < topics; i++)
            {
                await live.Text($$"""{"kind":"subscribe","topic":"berth/{{i}}","requestId":"{{i}}"}""");
                await live.Next("refused");
            }
        }
        await Try("nosy", 150);
        await Try("teo", 1);
        var lines = (await s.Get("/v1/audit?limit=1000", s.Key)).Json!["acts"]!.AsArray().Where(a => (string)a!["act"]! == "topic.refused")
            .ToList();
        lines.Select(l => (string)l!["actor"]!).Distinct().Count().ShouldBe(2);
        lines.Count.ShouldBeLessThan(40);
    }

    [Fact]
    public async Task Junk_origins_hide_no_other()
    {
        await using var s = await ServiceUnderTest.Start();
        async Task<int> Preflight(string from, string origin)
        {
            using var client = new TcpClient(new IPEndPoint(IPAddress.Parse(from), 0));
            await client.ConnectAsync(IPAddress.Loopback, s.Port);
            await client.GetStream()
                .WriteAsync(Encoding.ASCII.GetBytes($"GET /v1/inbox HTTP/1.1\r\nHost: x\r\nOrigin: {origin}\r\nConnection: close\r\n\r\n"));
            using var reader = new StreamReader(client.GetStream());
            return int.Parse((await reader.ReadToEndAsync()).AsSpan(9, 3), CultureInfo.InvariantCulture);
        }
        (await Preflight("127.0.0.1", "https://harbour-desk.example")).ShouldBe(403);
        for (int i = 0; i < 1500; i++) (await Preflight(Elsewhere, $"https://junk-{i}.example")).ShouldBe(403);
        (await Preflight("127.0.0.1", "https://quay-board.example")).ShouldBe(403);
        var shown = (await s.Get("/v1/status", s.Key)).Json!["originsRefused"]!.AsArray().Select(o => (string)o!["origin"]!).ToList();
        shown.ShouldContain("https://harbour-desk.example");
        shown.ShouldContain("https://quay-board.example");
        shown.Count.ShouldBeLessThan(50);
    }

    [Fact]
    public async Task One_user_is_given_so_many_tickets()
    {
        await using var s = await ServiceUnderTest.Start();
        var token = s.Token("mara");
        var answers = await Task.WhenAll(Enumerable.Range(0, 200).Select(_ => s.Post("/v1/tickets", token, "{}")));
        answers.ShouldContain(a => a.Status == 429 && a.Problem == "too-many-tickets");
        answers.Count(a => a.Status == 200 || a.Status == 201).ShouldBeInRange(20, 190);
        (await s.Post("/v1/tickets", s.Token("teo"), "{}")).Status.ShouldBeOneOf(200, 201);
    }
}
