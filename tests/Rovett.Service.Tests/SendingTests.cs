using System.Collections.Concurrent;
using System.Diagnostics;
using System.Text;
using System.Text.Json.Nodes;
using Rovett.Testing;
using Shouldly;
using Xunit;
using static Rovett.Service.Tests.Events.EventGround;

namespace Rovett.Service.Tests;

public sealed class SendingTests : IAsyncLifetime
{
    ServiceUnderTest s = null!;

    public async ValueTask InitializeAsync() => s = await ServiceUnderTest.Start();
    public ValueTask DisposeAsync() => s.DisposeAsync();

    const string Good = """{"to":["user:mara"],"type":"engine.check.due","title":"Turnstone: bow thruster check due"}""";

    [Fact]
    public async Task A_send_answers_at_once_with_what_it_means()
    {
        using var mara = await s.WebSocket(s.Token("mara", "engineer"));
        await mara.Next("current");
        await s.Get("/v1/inbox/totals", s.Token("ivo", "engineer"));
        var answer = await s.Post("/v1/notifications", s.Key,
            """{"to":["role:engineer","user:mara"],"except":["user:ivo"],"type":"engine.check.due","title":"t"}""");
        answer.Status.ShouldBe(201);
        ((string)answer.Json!["id"]!).Length.ShouldBe(26);
        ((long)answer.Json["position"]!).ShouldBeGreaterThan(0);
        ((bool)answer.Json["repeated"]!).ShouldBeFalse();
        answer.Json["reach"]!.ToJsonString()
            .ShouldBe("""[{"address":"role:engineer","users":2,"connected":0,"stored":0,"known":true},{"address":"user:mara","users":1,"connected":1,"stored":1,"known":true}]""");
    }

    [Fact]
    public async Task A_send_to_nobody_yet_says_so_with_near_names_and_waits_for_them()
    {
        await s.Get("/v1/inbox/totals", s.Token("mara", "engineer"));
        var answer = await s.Post("/v1/notifications", s.Key, """{"to":["user:mrra","role:enginer"],"type":"t","title":"t"}""");
        answer.Status.ShouldBe(201);
        answer.Json!["reach"]!.AsArray().Select(r => (bool)r!["known"]!).ShouldAllBe(k => !k);
        answer.Json["reach"]!.AsArray().Select(r => (string)r!["near"]![0]!).ShouldBe(["user:mara", "role:engineer"]);
        (await s.Totals(s.Token("mrra"))).Unread.ShouldBe(1);
    }

    [Fact]
    public async Task Strict_addresses_refuse_what_nobody_knows_and_store_nothing()
    {
        await using var strict = await ServiceUnderTest.Start(o => o.StrictAddresses = true);
        var refused = await strict.Post("/v1/notifications", strict.Key, Good);
        (refused.Status, refused.Problem).ShouldBe((422, "unknown-address"));
        (await strict.Totals(strict.Token("mara"))).Unread.ShouldBe(0);
        (await strict.Post("/v1/notifications", strict.Key, Good)).Status.ShouldBe(201);
    }

    [Fact]
    public async Task A_dry_run_answers_the_same_and_stores_nothing()
    {
        var dry = await s.Post("/v1/notifications?dryRun=true", s.Key, Good);
        dry.Status.ShouldBe(200);
        dry.Json!.ToJsonString()
            .ShouldBe("""{"dryRun":true,"reach":[{"address":"user:mara","users":0,"connected":0,"stored":1,"known":false,"near":[]}]}""");
        (await s.Totals(s.Token("mara"))).Unread.ShouldBe(0);
        (await s.Post("/v1/notifications?dryRun=yes", s.Key, Good)).Status.ShouldBe(422);
    }

    [Fact]
    public async Task The_same_idempotency_key_makes_one_notification_even_at_the_same_time_and_after_a_restart()
    {
        var answers = await Task.WhenAll(Enumerable.Range(0, 20)
            .Select(_ => s.Post("/v1/notifications", s.Key, Good, ("Idempotency-Key", "check-91"))));
        answers.Select(a => (string)a.Json!["id"]!).Distinct().Count().ShouldBe(1);
        answers.Count(a => a.Status == 201).ShouldBe(1);
        answers.Count(a => (bool)a.Json!["repeated"]!).ShouldBe(19);
        await s.Restart();
        var again = await s.Post("/v1/notifications", s.Key, Good, ("Idempotency-Key", "check-91"));
        ((string)again.Json!["id"]!).ShouldBe((string)answers[0].Json!["id"]!);
        (await s.Totals(s.Token("mara"))).Unread.ShouldBe(1);
    }

    [Fact]
    public async Task Another_body_under_the_same_idempotency_key_is_refused()
    {
        await s.Post("/v1/notifications", s.Key, Good, ("Idempotency-Key", "k"));
        var other = await s.Post("/v1/notifications", s.Key, Good.Replace("Turnstone", "Kittiwake"), ("Idempotency-Key", "k"));
        (other.Status, other.Problem).ShouldBe((422, "idempotency-key-reused"));
        (await s.Post("/v1/notifications", s.Key, Good, ("Idempotency-Key", new string('k', 256)))).Status.ShouldBe(422);
    }

    [Theory]
    [InlineData("""{}""", "to", "type", "title")]
    [InlineData("""[]""", "(body)")]
    [InlineData("""{"to":"user:mara","type":"t","title":"t"}""", "to")]
    [InlineData("""{"to":[],"type":"t","title":"t"}""", "to")]
    [InlineData("""{"to":["user:mara",5],"type":"t","title":"t"}""", "to[1]")]
    [InlineData("""{"to":["group:x"],"type":"t","title":"t"}""", "to[0]")]
    [InlineData("""{"to":["topic:berth//3"],"type":"t","title":"t"}""", "to[0]")]
    [InlineData("""{"to":["user:a\u0000b"],"type":"t","title":"t"}""", "to[0]")]
    [InlineData("""{"to":["user:\ud800"],"type":"t","title":"t"}""", "to[0]")]
    [InlineData("""{"to":["user:mara"],"except":["user:mara"],"type":"t","title":"t"}""", "except[0]")]
    [InlineData("""{"to":["everyone"],"except":["everyone"],"type":"t","title":"t"}""", "except[0]")]
    [InlineData("""{"to":["user:mara"],"type":"","title":"t"}""", "type")]
    [InlineData("""{"to":["user:mara"],"type":"t","title":"a\u0000"}""", "title")]
    [InlineData("""{"to":["user:mara"],"type":"t","title":"two\nlines"}""", "title")]
    [InlineData("""{"to":["user:mara"],"type":"t","title":7}""", "title")]
    [InlineData("""{"to":["user:mara"],"type":"t","title":"t","urgency":"urgent"}""", "urgency")]
    [InlineData("""{"to":["user:mara"],"type":"t","title":"t","titel":"x"}""", "titel")]
    [InlineData("""{"to":["user:mara"],"type":"t","title":"t","ttl":0,"slot":7,"store":"no"}""", "ttl", "slot", "store")]
    [InlineData("""{"to":["role:a","role:b"],"type":"t","title":"t","takeable":true}""", "takeable")]
    [InlineData("""{"to":["user:mara"],"type":"t","title":"t","carry":"all"}""", "carry")]
    [InlineData("""{"to":["user:mara"],"type":"t","title":"t","data":{"a":["\u0000"]}}""", "data")]
    public async Task Every_field_at_fault_is_named_and_nothing_is_stored(string body, params string[] fields)
    {
        var answer = await s.Post("/v1/notifications", s.Key, body);
        answer.Status.ShouldBe(422);
        answer.Json!["errors"]!.AsArray().Select(e => (string)e!["field"]!).ShouldBe(fields, ignoreOrder: true);
        ((string)answer.Json["fix"]!).ShouldNotBeEmpty();
        (await s.Get("/v1/status", s.Key)).Json!["position"]!.GetValue<long>().ShouldBe(0);
    }

    [Theory]
    [InlineData("javascript:alert(1)")]
    [InlineData("JavaScript:alert(1)")]
    [InlineData(" javascript:alert(1)")]
    [InlineData("\\u0009javascript:alert(1)")]
    [InlineData("java\\u000ascript:alert(1)")]
    [InlineData("data:text/html,x")]
    [InlineData("vbscript:x")]
    [InlineData("file:///etc/passwd")]
    [InlineData("//evil.example/x")]
    [InlineData("\\\\evil.example")]
    [InlineData("http:")]
    [InlineData("mailto:x@y.example")]
    public async Task Links_that_are_neither_relative_nor_http_are_refused(string link)
    {
        var answer = await s.Post("/v1/notifications", s.Key, Good.Replace("}", $",\"link\":\"{link.Replace("\\\\", "\\\\\\\\")}\"}}"));
        answer.Status.ShouldBe(422, answer.Text);
        ((string)answer.Json!["errors"]![0]!["field"]!).ShouldBe("link");
    }

    [Theory]
    [InlineData("/vessels/turnstone/checks/91?tab=a:b")]
    [InlineData("checks/91")]
    [InlineData("#notes:1")]
    [InlineData("https://ferries.example/checks/91")]
    [InlineData("HTTP://ferries.example")]
    public async Task Relative_and_http_links_are_taken(string link) =>
        (await s.Post("/v1/notifications", s.Key, Good.Replace("}", $",\"link\":\"{link}\"}}"))).Status.ShouldBe(201);

    [Fact]
    public async Task Limits_are_named_with_the_mend()
    {
        var users = string.Join(',', Enumerable.Range(0, 101).Select(i => $"\"user:u{i}\""));
        (await s.Post("/v1/notifications", s.Key, $$"""{"to":[{{users}}],"type":"t","title":"t"}""")).Json!["detail"]!.ToString()
            .ShouldContain("100");
        var roles = string.Join(',', Enumerable.Range(0, 17).Select(i => $"\"role:r{i}\""));
        (await s.Post("/v1/notifications", s.Key, $$"""{"to":[{{roles}}],"type":"t","title":"t"}""")).Json!["detail"]!.ToString()
            .ShouldContain("16");
        (await s.Post("/v1/notifications", s.Key, Good.Replace("Turnstone", new string('x', 257)))).Json!["detail"]!.ToString()
            .ShouldContain("256");
        (await s.Post("/v1/notifications", s.Key,
            Good.Replace("}", $",\"data\":\"{new string('x', 17_000)}\"}}"))).Json!["detail"]!.ToString().ShouldContain("16384");
        var large = await s.Post("/v1/notifications", s.Key, Good.Replace("Turnstone", new string('x', 300_000)));
        (large.Status, large.Problem).ShouldBe((413, "body-too-large"));

        // An array may be larger than one notification, whatever comes in front of it.
        var one = Good.Replace("}", $",\"data\":\"{new string('x', 600)}\"}}");
        foreach (var type in new[] { "application/json", "application/x-ndjson" })
        {
            var body = type == "application/json" ? $"\n  [{string.Join(',', Enumerable.Repeat(one, 1000))}]"
                : string.Join('\n', Enumerable.Repeat(one, 1000));
            var many = await s.Raw(HttpMethod.Post, "/v1/notifications", s.Key, body, type);
            (many.Status, (int?)many.Json!["sent"]).ShouldBe((200, 1000), type);
        }
    }

    [Fact]
    public async Task An_address_may_stand_in_256_audiences_and_the_next_is_refused_without_harm()
    {
        for (int i = 0; i < 256; i++)
        {
            (await s.Post("/v1/notifications", s.Key,
                $$"""{"to":["role:engineer"],"except":["role:r{{i}}"],"type":"t","title":"t"}""")).Status.ShouldBe(201);
        }
        var refused = await s.Post("/v1/notifications", s.Key, """{"to":["role:engineer","role:more"],"type":"t","title":"t"}""");
        (refused.Status, refused.Problem).ShouldBe((422, "too-many-audiences"));
        (await s.Totals(s.Token("mara", "engineer"))).Unread.ShouldBe(256);
    }

    [Theory]
    [InlineData("{\"to\":")]
    [InlineData("")]
    [InlineData("not json")]
    [InlineData("{\"to\":[\"user:mara\"],\"type\":\"t\",\"title\":\"t\",\"data\":{\"\\udc00\":1}}")]
    [InlineData("{\"\\ud800\":1}")]
    [InlineData("{\"to\":[\"user:a\"],\"to\":[\"user:b\"],\"type\":\"t\",\"title\":\"t\"}")]
    public async Task What_is_not_json_is_said_to_be_so(string body)
    {
        var answer = await s.Post("/v1/notifications", s.Key, body);
        (answer.Status, answer.Problem).ShouldBe((400, "malformed-json"));
    }

    [Fact]
    public async Task All_fields_arrive_as_they_were_sent()
    {
        using var mara = await s.Events(s.Token("mara"));
        const string fields =
            """{"type":"engine.check.due","subject":"vessel/turnstone","title":"Bow thruster „due“ <b>€𝄞</b>","body":"two\nlines","link":"/vessels/turnstone","urgency":"high","data":{"checkId":91,"list":[1.50,null,"x"]}}""";
        (await s.Post("/v1/notifications", s.Key, "{\"to\":[\"user:mara\"]," + fields[1..])).Status.ShouldBe(201);
        var message = await mara.Next("notification");
        var sent = JsonNode.Parse(fields)!.AsObject();
        foreach (var (name, value) in sent) message[name]!.ToJsonString().ShouldBe(value!.ToJsonString(), name);
        ((string)message["to"]!).ShouldBe("user:mara");
        ((int)message["attempt"]!).ShouldBe(1);
        ((long)message["unread"]!).ShouldBe(1);
    }

    [Fact]
    public async Task A_backend_sees_what_became_of_it_and_unknown_paths_say_so()
    {
        using var mara = await s.WebSocket(s.Token("mara", "engineer"));
        var id = await s.Send("role:engineer");
        var cursor = (string)(await mara.Next("notification"))["cursor"]!;
        await mara.Text($$"""{"kind":"ack","upTo":"{{cursor}}"}""");
        await mara.Text($$"""{"kind":"markRead","ids":["{{id}}"]}""");
        await mara.Next("done");
        var seen = await Eventually.Holds(() => s.Get($"/v1/notifications/{id}", s.Key), a => (int)a.Json!["people"]!["received"]! == 1,
            "the ack is stored");
        seen.Json!["people"]!.ToJsonString().ShouldBe("""{"received":1,"handled":0,"read":1}""");
        seen.Json["to"]!.ToJsonString().ShouldBe("""["role:engineer"]""");
        (await s.Get("/v1/notifications/01ARZ3NDEKTSV4RRFFQ69G5FAV", s.Key)).Problem.ShouldBe("unknown-notification");
        (await s.Get("/v1/nothing", s.Key)).Problem.ShouldBe("unknown-path");
        (await s.Call(HttpMethod.Put, "/v1/notifications", s.Key, "{}")).Problem.ShouldBe("unknown-method");
        (await s.Get("/s/nowhere/v1/status", s.Key)).Problem.ShouldBe("unknown-space");
    }

    [Fact]
    public async Task When_more_is_sent_than_can_be_stored_some_is_refused_and_what_was_accepted_is_there()
    {
        await using var s = await ServiceUnderTest.Start(o => o.MaxSendWaitMs = 10);
        var accepted = new ConcurrentBag<string>();
        int refused = 0, sent = 0;
        await Eventually.Holds(async () =>
        {
            await Task.WhenAll(Enumerable.Range(0, 2000).Select(async _ =>
            {
                var title = $"number {Interlocked.Increment(ref sent)}";
                var answer = await s.Post("/v1/notifications", s.Key, $$"""{"to":["user:mara"],"type":"t","title":"{{title}}"}""");
                if (answer.Status == 201) accepted.Add(title);
                else
                {
                    (answer.Status, answer.Problem).ShouldBe((503, "overloaded"));
                    answer.Headers.RetryAfter!.Delta!.Value.TotalSeconds.ShouldBe(1);
                    Interlocked.Increment(ref refused);
                }
            }));
            return refused;
        }, n => n > 0, "something is refused", 60);
        var mara = s.Token("mara");
        (await s.Get("/v1/inbox/totals", mara)).Json!["unread"]!.GetValue<int>().ShouldBe(accepted.Count);
        var titles = new List<string>();
        for (var path = "/v1/inbox?limit=100"; path is not null;)
        {
            var page = await s.Get(path, mara);
            titles.AddRange(page.Json!["items"]!.AsArray().Select(i => (string)i!["title"]!));
            path = page.Headers.TryGetValues("Link", out var link) ? link.First()[1..link.First().IndexOf('>')] : null;
        }
        titles.Order().ShouldBe(accepted.Order());
        // It is over as soon as less is sent.
        (await s.Post("/v1/notifications", s.Key, """{"to":["user:mara"],"type":"t","title":"later"}""")).Status.ShouldBe(201);
    }

    [Fact]
    public async Task Who_is_told_to_wait_and_does_not_hears_the_next_refusal_only_after_that_time()
    {
        await using var s = await ServiceUnderTest.Start(o => o.SendsAtOnce = 1);
        using var done = new CancellationTokenSource();
        const string body = """{"to":["user:mara"],"type":"t","title":"one of many"}""";
        var crowd = Enumerable.Range(0, 40).Select(_ => Task.Run(async () =>
        {
            while (!done.IsCancellationRequested) await s.Post("/v1/notifications", s.Key, body);
        })).ToList();
        using var http = new HttpClient(new SocketsHttpHandler { UseProxy = false, MaxConnectionsPerServer = 1 }) { BaseAddress = s.Url };
        http.DefaultRequestHeaders.Authorization = new("Bearer", s.Key);
        async Task<(int Status, TimeSpan Took)> Send()
        {
            var clock = Stopwatch.StartNew();
            using var answer = await http.PostAsync("/v1/notifications", new StringContent(body, Encoding.UTF8, "application/json"));
            return ((int)answer.StatusCode, clock.Elapsed);
        }
        var (first, again) = await Eventually.Holds(async () => (await Send(), await Send()), both => both is ((503, _), (503, _)),
            "two in a row are refused", 60);
        first.Status.ShouldBe(503);
        again.Took.ShouldBeGreaterThan(TimeSpan.FromMilliseconds(900)); // a second from the first refusal
        await Eventually.Holds(() => s.Get("/v1/limits", s.Key),
            a => a.Json!["limits"]!.AsArray().Single(l => (string)l!["name"]! == "sendsAtOnce")!["used"]!.GetValue<int>() == 1,
            "the place is seen to be taken");
        done.Cancel();
        await Task.WhenAll(crowd);
        await Eventually.Holds(Send, answer => answer.Status == 201, "there is room again, and whoever comes is let in");
    }

    [Fact]
    public async Task The_session_that_caused_a_send_gets_only_the_new_totals()
    {
        var token = s.Token("mara", "engineer");
        using var desk = await s.WebSocket(token);
        using var phone = await s.WebSocket(token);
        using var teo = await s.WebSocket(s.Token("teo", "engineer"));
        var session = (string)(await desk.Next("opened"))["session"]!;
        foreach (var live in new[] { desk, phone, teo }) await live.Next("current");
        Task<Answer> Send(string title, string origin) =>
            s.Post("/v1/notifications", s.Key, $$"""{"to":["role:engineer","user:mara"],"type":"t","title":"{{title}}"}""",
            ("Rovett-Session", origin));
        (await Send("The report is signed", session)).Status.ShouldBe(201);
        ((string)(await phone.Next("notification"))["title"]!).ShouldBe("The report is signed");
        ((string)(await teo.Next("notification"))["title"]!).ShouldBe("The report is signed");
        var first = (await desk.Next())!;
        ((string)first["kind"]!, (int)first["totals"]!["unread"]!).ShouldBe(("totals", 1));
        // The next one, of somebody else, comes to it too, and counts on.
        (await Send("The pump is checked", "no such session")).Status.ShouldBe(201);
        var next = (await desk.Next())!;
        ((string)next["kind"]!, (string)next["title"]!, (int)next["unread"]!).ShouldBe(("notification", "The pump is checked", 2));
        (await s.Get("/v1/inbox", token)).Json!["items"]!.AsArray().Count.ShouldBe(2);
        // And again, with one that it was sent in between.
        (await Send("Third", session)).Status.ShouldBe(201);
        ((int)(await desk.Next())!["totals"]!["unread"]!).ShouldBe(3);
    }
}
