using System.Diagnostics;
using System.Text.Json.Nodes;
using Rovett.Client;
using Rovett.Testing;
using Shouldly;
using Xunit;

namespace Rovett.Service.Tests;

/// <summary>The .NET client against the real service: it comes back by itself, goes on where it was, and says what it did.</summary>
public sealed class ClientTests : IAsyncLifetime
{
    ServiceUnderTest s = null!;

    public async ValueTask InitializeAsync() => s = await ServiceUnderTest.Start(o => (o.ComeBackWithinMs, o.HeartbeatSeconds) = (200, 1));
    public ValueTask DisposeAsync() => s.DisposeAsync();

    async Task<List<string>> Read(LiveConnection live, int count, Func<JsonObject, Task>? each = null, int seconds = 20)
    {
        using var limit = new CancellationTokenSource(TimeSpan.FromSeconds(seconds));
        var titles = new List<string>();
        await foreach (var message in live.Messages(limit.Token))
        {
            if (each is not null) await each(message);
            if ((string)message["kind"]! == "notification") titles.Add((string)message["title"]!);
            if (titles.Count == count) break;
        }
        return titles;
    }

    [Fact]
    public async Task What_was_not_carried_is_fetched_and_what_is_gone_is_left_out()
    {
        using var sender = new RovettSender(new RovettSendOptions { Url = s.Url, Key = s.Key });
        foreach (var carry in new[] { Carry.Reference, Carry.Full, Carry.Summary })
        {
            var data = new JsonObject { ["a"] = 1 };
            await sender.Send(new Notification("t", $"{carry}", "user:mara") { Body = "more", Data = data, Carry = carry });
        }
        using var live = new LiveConnection(s.Url, _ => new ValueTask<string>(s.Token("mara")));
        var bodies = new List<string?>();
        var titles = await Read(live, 3, message =>
        {
            if ((string)message["kind"]! == "notification") bodies.Add($"{message["body"]} {message["data"]!["a"]} {message["carry"]}");
            return Task.CompletedTask;
        });
        (string.Join(' ', titles), bodies.Distinct().Single()).ShouldBe(("Reference Full Summary", "more 1 "));
    }

    [Fact]
    public async Task Choices_are_read_and_put_and_come_over_the_connection()
    {
        using var client = new RovettClient(s.Url, s.Token("mara"));
        var choices = new RovettChoices(client);
        (await choices.Get()).ShouldSatisfyAllConditions(c => c.Rev.ShouldBe(0), c => c.Mutes.ShouldBeEmpty(), c => c.Quiet.ShouldBeNull());

        using var live = new LiveConnection(s.Url, _ => new ValueTask<string>(s.Token("mara")));
        Choices put = null!, told = null!;
        DayOfWeek[] weekdays = [.. Enum.GetValues<DayOfWeek>().Where(d => d != DayOfWeek.Sunday)];
        await Read(live, 1, async message =>
        {
            var kind = (string)message["kind"]!;
            if (kind == "current")
            {
                var quiet = new QuietHours("Europe/Berlin", new QuietTime("00:00", "24:00", weekdays));
                put = await choices.Put(0, [new Mute("weather.warning"), new Mute(Subject: "vessel/turnstone")], quiet);
            }
            if (kind != "choices" || message["rev"]!.GetValue<long>() == 0) return;
            told = Choices.From(message);
            await s.Send("user:mara");
        });
        (told.Rev, told.Quiet!.TimeZone).ShouldBe((put.Rev, "Europe/Berlin"));
        told.Quiet.Hours.Single().Days.ShouldBe(weekdays);
        told.Mutes.Select(m => (m.Type, m.Subject)).ShouldBe([("weather.warning", null), (null, "vessel/turnstone")]);
        told.Mutes.ShouldAllBe(m => m.Since != null);
        told.QuietSpans.ShouldBe(put.QuietSpans);

        var now = told.QuietSpans[0].From.AddMinutes(1);
        told.Rings(new JsonObject { ["urgency"] = "normal" }, now).ShouldBeFalse();
        told.Rings(new JsonObject { ["urgency"] = "high" }, now).ShouldBeTrue();
        told.Rings(new JsonObject { ["urgency"] = "normal", ["always"] = true }, now).ShouldBeTrue();
        told.Rings(new JsonObject { ["urgency"] = "normal" }, told.QuietSpans[^1].To).ShouldBeTrue();
        (await Should.ThrowAsync<RovettRefusedException>(choices.Put(0, [], null))).Slug.ShouldBe("other-version");
        (await choices.Put(null, [], null)).Mutes.ShouldBeEmpty();
    }

    [Theory]
    [InlineData(LiveTransport.WebSocket, "websocket")]
    [InlineData(LiveTransport.Sse, "sse")]
    [InlineData(LiveTransport.LongPoll, "long-poll")]
    public async Task When_its_token_ends_it_comes_back_with_a_fresh_one_and_misses_nothing(LiveTransport transport, string name)
    {
        int tokens = 0;
        using var live = new LiveConnection(s.Url,
            _ => new ValueTask<string>(
            TestTokens.Make(s.Secret, "mara", ["engineer"], tokens++ == 0 ? TimeSpan.FromSeconds(1) : TimeSpan.FromHours(1))),
            new LiveOptions { Transport = transport, AckWithin = TimeSpan.FromMilliseconds(50) });
        var kinds = new List<string>();
        await s.Send("role:engineer", "before");
        var titles = await Read(live, 2, async message =>
        {
            var kind = (string)message["kind"]!;
            kinds.Add(kind);
            if (kind == "opened") live.Transport.ShouldBe(name);
            if (kind == "ending") await s.Send("role:engineer", "between");
        });
        titles.ShouldBe(["before", "between"]);
        kinds.Count(k => k == "opened").ShouldBe(2);
        (tokens, live.Reconnects).ShouldBe((2, 1));
        live.LastTrouble!.ShouldContain("token-expired");
    }

    [Theory]
    [InlineData(false, false, "websocket")]
    [InlineData(true, false, "sse")]
    [InlineData(true, true, "long-poll")]
    [InlineData(false, true, "websocket")]
    public async Task It_finds_the_transport_that_works_and_misses_nothing(bool strips, bool buffers, string transport)
    {
        using var relay = new Relay(s.Port) { StripsUpgrades = strips, BuffersStreams = buffers };
        for (int i = 0; i < 50; i++) await s.Send("role:engineer", $"{i}");
        using var live = new LiveConnection(relay.Url, _ => new ValueTask<string>(s.Token("mara", "engineer")),
            new LiveOptions { AckWithin = TimeSpan.FromMilliseconds(50) });
        var clock = Stopwatch.StartNew();
        var titles = await Read(live, 60, async message =>
        {
            if ((string)message["kind"]! == "opened")
            {
                live.Transport.ShouldBe(transport);
                clock.Elapsed.ShouldBeLessThan(TimeSpan.FromSeconds(4));
            }
            if ((string)message["kind"]! != "current") return;
            for (int i = 50; i < 60; i++) await s.Send("role:engineer", $"{i}");
        });
        titles.ShouldBe(Enumerable.Range(0, 60).Select(i => $"{i}"));
    }

    [Fact]
    public async Task It_comes_back_after_a_restart_and_has_what_came_meanwhile_once()
    {
        // The port is another one after the restart, as it would be behind a proxy that moves over: a fresh connection
        // takes the cursor along.
        string? cursor = null;
        using (var live = new LiveConnection(s.Url, _ => new ValueTask<string>(s.Token("mara", "engineer"))))
        {
            await s.Send("role:engineer", "one");
            (await Read(live, 1, message =>
            {
                // Leaving the loop says nothing of the last one, so its cursor is taken along by hand.
                cursor = (string?)message["cursor"] ?? cursor;
                return Task.CompletedTask;
            })).ShouldBe(["one"]);
        }
        await s.Send("role:engineer", "two");
        await s.Restart();
        await s.Send("role:engineer", "three");
        using var again = new LiveConnection(s.Url, _ => new ValueTask<string>(s.Token("mara", "engineer")),
            new LiveOptions { After = cursor });
        (await Read(again, 2)).ShouldBe(["two", "three"]);
    }

    [Theory]
    [InlineData(LiveTransport.WebSocket)]
    [InlineData(LiveTransport.Sse)]
    [InlineData(LiveTransport.LongPoll)]
    public async Task Cuts_while_it_acknowledges_lose_and_double_nothing(LiveTransport transport)
    {
        const int All = 600;
        using var relay = new Relay(s.Port);
        using var live = new LiveConnection(relay.Url, _ => new ValueTask<string>(s.Token("mara", "engineer")),
            new LiveOptions { Transport = transport, Device = "desk", AckEvery = 1 });
        using var over = new CancellationTokenSource();
        int came = 0;
        var cuts = Task.Run(async () =>
        {
            for (int cut = 1; cut <= 12; cut++)
            {
                await Eventually.Holds(() => Volatile.Read(ref came) > cut * 40, "more came", 30);
                relay.Cut();
            }
        }, over.Token);
        var sending = Task.Run(async () =>
        {
            for (int i = 0; i < All; i++) await s.Send("role:engineer", $"{i}");
        }, over.Token);
        var titles = await Read(live, All, _ =>
        {
            Interlocked.Increment(ref came);
            return Task.CompletedTask;
        }, 60);
        await Task.WhenAll(cuts, sending);
        titles.ShouldBe(Enumerable.Range(0, All).Select(i => $"{i}"));
        if (transport != LiveTransport.LongPoll) live.Reconnects.ShouldBeGreaterThan(0); // a poll is asked again by its number
    }

    [Theory]
    [InlineData(LiveTransport.WebSocket)]
    [InlineData(LiveTransport.Sse)]
    [InlineData(LiveTransport.LongPoll)]
    public async Task A_connection_that_is_dead_and_does_not_say_so_is_noticed(LiveTransport transport)
    {
        using var relay = new Relay(s.Port);
        using var live = new LiveConnection(relay.Url, _ => new ValueTask<string>(s.Token("mara", "engineer")),
            new LiveOptions { Transport = transport, Device = "desk", DeadAfter = TimeSpan.FromSeconds(4) });
        await s.Send("role:engineer everyone", "before");
        var titles = await Read(live, 2, async message =>
        {
            if ((string)message["kind"]! != "current" || live.Reconnects > 0) return;
            relay.Silence();
            await s.Send("everyone", "into the void");
        }, 40);
        titles[^1].ShouldBe("into the void");
        live.Reconnects.ShouldBeGreaterThan(0);
    }

    [Theory]
    [InlineData(LiveTransport.Auto)]
    [InlineData(LiveTransport.WebSocket)]
    [InlineData(LiveTransport.Sse)]
    [InlineData(LiveTransport.LongPoll)]
    public async Task What_is_refused_for_good_is_thrown_and_not_tried_again(LiveTransport transport)
    {
        using var live = new LiveConnection(s.Url, _ => new ValueTask<string>("not.a.token"), new LiveOptions { Transport = transport });
        (await Should.ThrowAsync<RovettRefusedException>(() => Read(live, 1))).Status.ShouldBe(401);
        live.Reconnects.ShouldBe(0);
    }

    [Fact]
    public async Task A_token_function_that_fails_is_asked_again_and_what_it_gives_is_looked_at()
    {
        string Good() => s.Token("mara", "engineer");
        string Late() => TestTokens.Make(s.Secret, "mara", ["engineer"], TimeSpan.FromMinutes(-5));
        var answers = new Queue<Func<string>>([
            () => throw new HttpRequestException("502 from the page's backend"), () => "<!doctype html><title>Sign in</title>", () => null!,
                () => "", Late, Late, Good,
            () => throw new InvalidOperationException("nobody is signed in"), Good]);
        var troubles = new List<string>();
        using var relay = new Relay(s.Port);
        LiveConnection live = null!;
        live = new LiveConnection(relay.Url, _ =>
        {
            troubles.Add(live.LastTrouble ?? "");
            return new ValueTask<string>(answers.Dequeue()());
        }, new LiveOptions { Transport = LiveTransport.Sse });
        using var _ = live;
        await s.Send("role:engineer", "one");
        (await Read(live, 2, async message =>
        {
            if ((string)message["kind"]! != "notification" || (string)message["title"]! != "one") return;
            relay.Cut();
            await s.Send("role:engineer", "two");
        }, 60)).ShouldBe(["one", "two"]);
        answers.ShouldBeEmpty();
        foreach (var why in new[] { "no token: 502", "<!doctype html>", "is none: null", "is none: \"\"", "expired",
            "nobody is signed in" })
            troubles.ShouldContain(t => t.Contains(why, StringComparison.OrdinalIgnoreCase), why);
    }

    [Fact]
    public async Task Without_coming_back_the_token_functions_failure_is_thrown()
    {
        var once = new LiveOptions { Reconnect = false };
        using var throws = new LiveConnection(s.Url, _ => throw new InvalidOperationException("nobody is signed in"), once);
        (await Should.ThrowAsync<InvalidOperationException>(() => Read(throws, 1))).Message.ShouldBe("nobody is signed in");
        using var gives = new LiveConnection(s.Url, _ => new ValueTask<string>("<html>"), once);
        (await Should.ThrowAsync<FormatException>(() => Read(gives, 1))).Message.ShouldContain("<html>");
    }

    [Fact]
    public async Task What_stands_between_and_answers_for_the_service_refuses_nobody()
    {
        await using var between = new CalledBackend { Answer = _ => (403, "<h1>Sign in to the network</h1>") };
        using var limit = new CancellationTokenSource(TimeSpan.FromSeconds(20));
        foreach (var transport in new[] { LiveTransport.WebSocket, LiveTransport.Sse, LiveTransport.LongPoll })
        {
            using var live = new LiveConnection(new Uri(between.Url), _ => new ValueTask<string>(s.Token("mara")),
                new LiveOptions { Transport = transport });
            using var enough = new CancellationTokenSource();
            var reading = Task.Run(async () =>
            {
                await foreach (var _ in live.Messages(enough.Token)) { }
            }, limit.Token);
            await Eventually.Holds(() => live.Reconnects >= 2, "it is tried again");
            await enough.CancelAsync();
            await Should.ThrowAsync<OperationCanceledException>(() => reading);
            live.LastTrouble.ShouldNotBeNull();
        }
    }

    [Fact]
    public async Task A_signing_key_that_is_removed_ends_the_session_which_comes_back_with_a_token_of_another()
    {
        using var admin = s.Backend();
        const string Other = "a secret of its own, long enough to sign with";
        await admin.Call(HttpMethod.Post, "/v1/signing-keys", new JsonObject { ["name"] = "rotated", ["secret"] = Other });
        var secret = Other;
        using var live = new LiveConnection(s.Url,
            _ => new ValueTask<string>(TestTokens.Make(secret, "mara", ["engineer"], TimeSpan.FromHours(1))), new LiveOptions());
        (await Read(live, 1, async message =>
        {
            if ((string)message["kind"]! != "current" || live.Reconnects > 0) return;
            secret = s.Secret;
            await admin.Call(HttpMethod.Delete, "/v1/signing-keys/rotated");
            await s.Send("role:engineer", "after");
        })).ShouldBe(["after"]);
        live.LastTrouble!.ShouldContain("signing-key-removed");
    }

    [Theory]
    [InlineData(LiveTransport.Sse)]
    [InlineData(LiveTransport.LongPoll)]
    public async Task An_acknowledgement_that_did_not_get_through_is_repeated(LiveTransport transport)
    {
        using var relay = new Relay(s.Port);
        using var live = new LiveConnection(relay.Url, _ => new ValueTask<string>(s.Token("mara", "engineer")),
            new LiveOptions { Transport = transport, AckWithin = TimeSpan.FromMilliseconds(20) });
        var id = await s.Send("role:engineer", "one");
        using var over = new CancellationTokenSource();
        relay.PostsRefused = 3;
        var reading = Task.Run(async () =>
        {
            await foreach (var _ in live.Messages(over.Token)) { }
        }, TestContext.Current.CancellationToken);
        using var backend = s.Backend();
        await Eventually.Holds(async () => (int)(await backend.Call(HttpMethod.Get, $"/v1/notifications/{id}"))["people"]!["handled"]!,
            n => n == 1, "it is known to be handled");
        live.LastTrouble!.ShouldContain("503");
        live.Reconnects.ShouldBe(0);
        await over.CancelAsync();
        await Should.ThrowAsync<OperationCanceledException>(() => reading);
    }

    /// <summary>Says yes to every acknowledgement, a little later, and refuses each third.</summary>
    sealed class CountingLink : LiveLink
    {
        int sent;
        public string? Newest;
        public override string Transport => "none";
        public override Task<string?> Next(CancellationToken cancel) => Task.FromResult<string?>(null);

        public override async Task<LinkAnswer> Send(JsonObject message, CancellationToken cancel)
        {
            await Task.Yield();
            if (++sent % 3 == 0) return new LinkAnswer(IsRefused: true);
            Volatile.Write(ref Newest, (string?)message["upTo"]);
            return new LinkAnswer(IsStored: true);
        }

        public override ValueTask DisposeAsync() => default;
    }

    [Fact]
    public async Task What_is_handed_out_while_it_acknowledges_is_acknowledged_too()
    {
        var link = new CountingLink();
        using var acks = new AckGatherer(link, new Unconfirmed(), new LiveOptions { AckEvery = 3, AckWithin = TimeSpan.Zero }, _ => { });
        for (int i = 0; i < 300; i++)
        {
            await acks.Handled($"{i}-a", atOnce: i % 7 == 0, TestContext.Current.CancellationToken);
            await acks.Handled($"{i}-b", atOnce: false, TestContext.Current.CancellationToken);
            await Eventually.Holds(() => Volatile.Read(ref link.Newest) == $"{i}-b", $"the newest of {i} is acknowledged");
        }
    }

    [Fact]
    public async Task Sending_throws_what_was_refused_with_its_fields_and_repeats_safely()
    {
        using var backend = s.Backend();
        var refused =
            await Should.ThrowAsync<RovettRefusedException>(() => backend.Send(new JsonObject { ["to"] = new JsonArray("mara") }));
        (refused.Status, refused.Slug).ShouldBe((422, "invalid-fields"));
        refused.Fields.Select(f => f.Field).ShouldBe(["to[0]", "type", "title"]);
        JsonObject Notification() => new() { ["to"] = new JsonArray("user:mara"), ["type"] = "t", ["title"] = "t" };
        var first = await backend.Send(Notification(), "key");
        ((string)(await backend.Send(Notification(), "key"))["id"]!).ShouldBe((string)first["id"]!);
    }

    [Fact]
    public async Task What_has_a_deadline_is_acknowledged_at_once()
    {
        await using var s = await ServiceUnderTest.Start();
        using var live = new LiveConnection(s.Url, _ => new ValueTask<string>(s.Token("mara", "engineer")),
            new LiveOptions { AckWithin = TimeSpan.FromHours(1) });
        async Task<int> Received(string id) => (int)(await s.Get($"/v1/notifications/{id}", s.Key)).Json!["people"]!["received"]!;
        using var limit = new CancellationTokenSource(TimeSpan.FromSeconds(30));
        string toRead = "", toSign = "";
        await using var messages = live.Messages(limit.Token).GetAsyncEnumerator();
        async Task<JsonObject> Next(string kind)
        {
            while (await messages.MoveNextAsync())
            {
                if ((string)messages.Current["kind"]! == kind) return messages.Current;
            }
            throw new InvalidOperationException("It ended.");
        }
        await Next("current");
        toRead = await s.Send("user:mara", "to read");
        (await Next("notification")).ContainsKey("due").ShouldBeFalse();
        var after = Next("notification");
        toSign = (string)(await s.Post("/v1/notifications", s.Key,
            """{"to":["user:mara"],"type":"t","title":"to sign","deadlines":[{"by":"received","within":"PT1M"}]}""")).Json!["id"]!;
        var signed = await after;
        (string.CompareOrdinal((string)signed["due"]!, (string)signed["time"]!) > 0).ShouldBeTrue();
        (await Received(toRead)).ShouldBe(0, "the next message was asked for, and an hour is not over");
        var last = Next("notification");
        await Eventually.Holds(() => Received(toSign), n => n == 1, "it is acknowledged at once");
        (await Received(toRead)).ShouldBe(1, "and what came before it");
        await s.Send("user:mara", "the last");
        await last;
    }
}
