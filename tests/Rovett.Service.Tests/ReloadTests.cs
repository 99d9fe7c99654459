using Rovett.Service.Options;
using Rovett.Testing;
using Shouldly;
using Xunit;

namespace Rovett.Service.Tests;

/// <summary>What is taken up while the service runs: each setting of which the page says so.</summary>
public sealed class ReloadTests : IAsyncLifetime
{
    readonly TestClock clock = new();
    ServiceUnderTest s = null!;
    RovettOptions others = null!;

    public async ValueTask InitializeAsync()
    {
        s = await ServiceUnderTest.Start(clock: clock);
        others = new RovettOptions { Data = s.Folder, Port = 0, Log = "error", Metrics = "off", Database = s.Database };
    }

    public ValueTask DisposeAsync() => s.DisposeAsync();

    string[] TakeUp(Action<RovettOptions> change)
    {
        change(others);
        return [.. s.Service.TakeUp(others).Select(c => $"{c.Name} {c.IsTakenUp}")];
    }

    async Task<int> Limit(string name) =>
        (int)(await s.Get("/v1/limits", s.Key)).Json!["limits"]!.AsArray().Single(l => (string)l!["name"]! == name)!["limit"]!;

    [Fact]
    public async Task Limits_hold_from_the_next_on()
    {
        TakeUp(o =>
        {
            (o.SendsPerSecond, o.SessionsPerUser, o.SessionsPerAddress, o.MessagesPerSecond) = (2, 1, 7, 8);
            (o.TopicsPerSession, o.TopicsPerUser, o.HandshakeSeconds, o.MaxUnauthenticated) = (9, 10, 11, 12);
            (o.SendsAtOnce, o.MaxConnections, o.MaxMessageBytes) = (13, 140, 15_000);
        }).ShouldAllBe(c => c.EndsWith(" True"));
        foreach (var (name, limit) in new[] { ("sendsPerSecond", 2), ("sessionsPerUser", 1), ("sessionsPerAddress", 7),
            ("messagesPerSecond", 8),
            ("topicsPerSession", 9), ("topicsPerUser", 10), ("handshakeSeconds", 11), ("maxUnauthenticated", 12), ("sendsAtOnce", 13),
            ("maxConnections", 140), ("maxMessageBytes", 15_000) })
        {
            (await Limit(name)).ShouldBe(limit, name);
        }
        using var first = await s.Events(s.Token("mara"));
        (await s.Get("/v1/live?transport=sse", s.Token("mara"))).Problem.ShouldBe("too-many-sessions");
        int taken = 0;
        for (int i = 0; i < 4; i++)
        {
            if ((await s.Post("/v1/notifications", s.Key, """{"to":["user:mara"],"type":"t","title":"one"}""")).Status == 201) taken++;
        }
        taken.ShouldBeInRange(1, 3);
    }

    [Fact]
    public async Task Origins_and_webhook_networks_hold_from_the_next_request_on()
    {
        async Task<int> From(string origin) => (await s.Call(HttpMethod.Get, "/v1/inbox", s.Token("mara"), null, ("Origin",
            origin))).Status;
        (await From("https://crew.example")).ShouldBe(403);
        TakeUp(o => o.Origins = ["https://crew.example"]).ShouldBe(["origins True"]);
        (await From("https://crew.example")).ShouldBe(200);
        TakeUp(o => o.Origins = []);
        (await From("https://crew.example")).ShouldBe(403);

        async Task<int> Hook() => (await s.Call(HttpMethod.Put, "/v1/webhooks/bridge", s.Key,
            """{"url":"http://127.0.0.1:9/hook"}""")).Status;
        (await Hook()).ShouldBe(422);
        TakeUp(o => o.WebhookNetworks = ["127.0.0.1/32"]);
        (await Hook()).ShouldBe(201);
    }

    [Fact]
    public async Task Addresses_newcomers_and_receipts_go_by_the_new_settings()
    {
        await s.Send("role:engineer");
        clock.Advance(TimeSpan.FromDays(2));
        TakeUp(o => (o.StrictAddresses, o.Newcomers, o.FullReceipts, o.NoReceipts) = (true, "1d", ["safety.*"], ["chart.*"]));
        (await s.Post("/v1/notifications", s.Key,
            """{"to":["user:nobody"],"type":"t","title":"one"}""")).Problem.ShouldBe("unknown-address");
        async Task<string> Kept(string type)
        {
            await s.Call(HttpMethod.Put, "/v1/users/mara", s.Key, """{"roles":["engineer"]}""");
            return (string)(await s.Get($"/v1/notifications/{await s.Send("user:mara", type: type)}", s.Key)).Json!["receiptsKept"]!;
        }
        (await Kept("safety.drill")).ShouldBe("full");
        (await Kept("chart.updated")).ShouldBe("none");
        (await Kept("tide.turned")).ShouldBe("totals");
        var late = TestTokens.Make(s.Secret, "ivo", ["engineer"], lifetime: TimeSpan.FromDays(3));
        (await s.Totals(late)).Unread.ShouldBe(0); // two days ago is too long
        TakeUp(o => o.Newcomers = "7d");
        (await s.Totals(TestTokens.Make(s.Secret, "teo", ["engineer"], lifetime: TimeSpan.FromDays(3)))).Unread.ShouldBe(1);
    }

    [Fact]
    public async Task Retention_goes_by_the_new_settings()
    {
        for (int i = 0; i < 150; i++) await s.Send("user:mara", $"{i}");
        TakeUp(o => o.KeepCount = 100).ShouldBe(["keepCount True"]);
        await Eventually.Holds(() => Task.FromResult(s.Count("SELECT count(*) FROM entry")), n => n <= 101,
            "what is beyond the number goes");
        TakeUp(o => (o.KeepCount, o.KeepFor) = (0, "1h"));
        clock.Advance(TimeSpan.FromMinutes(30));
        await s.Send("user:mara", "younger than an hour");
        clock.Advance(TimeSpan.FromMinutes(40));
        await Eventually.Holds(() => Task.FromResult(s.Count("SELECT count(*) FROM entry WHERE kind=1")), n => n == 1,
            "what is older goes");
    }

    [Fact]
    public async Task What_changed_is_in_the_trail_and_the_rest_waits_for_a_restart()
    {
        TakeUp(o => (o.KeepFor, o.Window, o.Address) = ("90d", 99, "0.0.0.0")).ShouldBe(["address False", "keepFor True", "window False"],
            ignoreOrder: true);
        TakeUp(o => (o.Window, o.Address) = (256, "127.0.0.1")).ShouldBeEmpty();
        var act = (await s.Get("/v1/audit", s.Key)).Json!["acts"]!.AsArray().Single(a => (string)a!["act"]! == "settings.taken-up")!;
        act.ToJsonString().ShouldContain("""{"keepFor":{"before":"always","after":"90d"}}""");
    }

    [Fact]
    public async Task Who_comes_back_within_the_new_time_was_not_away_and_a_stop_names_the_new_one()
    {
        TakeUp(o => (o.PresenceGraceSeconds, o.ComeBackWithinMs) = (0, 7777)).ShouldAllBe(c => c.EndsWith(" True"));
        (await s.Call(HttpMethod.Put, "/v1/policies", s.Key,
            """{"policies":[{"name":"all","topic":"berth/{b}","may":["subscribe","presence"],"shows":"people","when":{"anyone":true}}]}"""))
            .Status.ShouldBe(200);
        using var ruth = await s.WebSocket(s.Token("ruth"));
        await ruth.Text("""{"kind":"watch","address":"topic:berth/3"}""");
        await ruth.Next("presence");
        var teo = await s.WebSocket(s.Token("teo"));
        await teo.Text("""{"kind":"subscribe","topic":"berth/3"}""");
        ((int)(await ruth.Next("presence"))["count"]!).ShouldBe(1);
        teo.Dispose();
        // The default would be ten seconds, and time stands still for nobody here but by the machine's own clock.
        var began = clock.Elapsed;
        ((int)(await ruth.Next("presence"))["count"]!).ShouldBe(0);
        (clock.Elapsed - began).ShouldBeLessThan(TimeSpan.FromSeconds(9));
        var stopping = s.Service.DisposeAsync();
        ((int)(await ruth.Next("ending"))["comeBackWithinMs"]!).ShouldBe(7777);
        await stopping;
    }

    [Fact, Trait("home", "folder")]
    public async Task Backups_and_the_log_go_by_the_new_settings()
    {
        var folder = Directory.CreateTempSubdirectory("rovett-reload-").FullName;
        void Set(RovettOptions o) => (o.Backups, o.LogFile, o.Data, o.Metrics, o.Port) = (Path.Combine(folder, "backups"),
            Path.Combine(folder, "log"), Path.Combine(folder, "data"), "off", 0);
        await using (var service = await ServiceUnderTest.Start(o => { Set(o); o.Log = "error"; }, clock))
        {
            var changed = new RovettOptions();
            Set(changed);
            (changed.BackupEvery, changed.BackupsKept, changed.Log) = ("1h", 2, "information");
            service.Service.TakeUp(changed).Select(c => $"{c.Name} {c.IsTakenUp}").ShouldBe(["backupEvery True", "backupsKept True",
                "log True"],
                ignoreOrder: true);
            for (int i = 0; i < 3; i++)
            {
                await service.Service.Backups.MakeIfDue();
                clock.Advance(TimeSpan.FromHours(1));
            }
            Directory.GetDirectories(Path.Combine(folder, "backups")).Length.ShouldBe(2);
        }
        // What only the new level writes: that it was taken up.
        (await File.ReadAllTextAsync(Directory.GetFiles(folder, "log*").Single(), TestContext.Current.CancellationToken))
            .ShouldContain("The setting log is 'information' from now on");
        Directory.Delete(folder, recursive: true);
    }

    [Fact]
    public void A_setting_that_is_marked_is_tried_here()
    {
        // Each of them is tried above, some limits by what is shown of them; a new one must be, too.
        typeof(RovettOptions).GetProperties().Where(p => p.IsDefined(typeof(AtRunTimeAttribute), false)).Select(p => p.Name).Order()
            .ShouldBe(["BackupEvery", "BackupsKept", "ComeBackWithinMs", "FullReceipts", "HandshakeSeconds", "KeepCount", "KeepFor", "Log",
                "MaxConnections", "MaxMessageBytes", "MaxUnauthenticated", "MessagesPerSecond", "Newcomers", "NoReceipts", "Origins",
                "PresenceGraceSeconds", "SendsAtOnce", "SendsPerSecond", "SessionsPerAddress", "SessionsPerUser", "StrictAddresses",
                "TopicsPerSession", "TopicsPerUser", "WebhookNetworks"]);
    }
}
