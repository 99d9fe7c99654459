using System.Text.Json.Nodes;
using Rovett.Testing;
using Shouldly;
using Xunit;

namespace Rovett.Service.Tests;

public sealed class LiveTests : IAsyncLifetime
{
    ServiceUnderTest s = null!;

    public async ValueTask InitializeAsync() => s = await ServiceUnderTest.Start(o => o.Spaces = ["harbour"]);
    public ValueTask DisposeAsync() => s.DisposeAsync();

    async Task<RawConnection> Connect(string transport, string token, string query = "") =>
        transport == "websocket" ? await s.WebSocket(token, query) : await s.Events(token, query);

    Task Ack(RawConnection live, string token, JsonObject opened, string cursor) => live is RawWebSocket socket
        ? socket.Text($$"""{"kind":"ack","upTo":"{{cursor}}"}""")
        : s.Post($"/v1/live/{opened["session"]}", token, $$"""{"kind":"ack","upTo":"{{cursor}}"}""");

    public static readonly TheoryData<string> Transports = ["websocket", "sse"];

    [Theory, MemberData(nameof(Transports))]
    public async Task A_session_says_as_whom_on_which_channels_and_then_that_it_is_up_to_date(string transport)
    {
        using var live = await Connect(transport, s.Token("mara", "engineer"), "?device=phone");
        var opened = await live.Next();
        ((string)opened!["kind"]!).ShouldBe("opened");
        ((string)opened["user"]!).ShouldBe("mara");
        ((string)opened["device"]!).ShouldBe("phone");
        ((string)opened["transport"]!).ShouldBe(transport);
        opened["channels"]!.ToJsonString().ShouldBe("""["user:mara","role:engineer","everyone"]""");
        ((long)opened["totals"]!["unread"]!).ShouldBe(0);
        ((string)opened["cursor"]!).Length.ShouldBe(22);
        ((string)(await live.Next())!["kind"]!).ShouldBe("current");
    }

    [Theory, MemberData(nameof(Transports))]
    public async Task What_is_sent_arrives_with_a_number_up_by_one_and_only_at_whom_it_is_for(string transport)
    {
        using var mara = await Connect(transport, s.Token("mara", "engineer"));
        using var teo = await Connect(transport, s.Token("teo", "deckhand"));
        await mara.Next("current");
        await teo.Next("current");
        for (int i = 1; i <= 3; i++)
        {
            var id = await s.Send("role:engineer");
            var got = await mara.Next("notification");
            ((string)got["id"]!).ShouldBe(id);
            ((string)got["to"]!).ShouldBe("role:engineer");
            ((long)got["unread"]!).ShouldBe(i);
        }
        var his = await s.Send("user:teo");
        ((string)(await teo.Next("notification"))["id"]!).ShouldBe(his);
    }

    [Fact]
    public async Task Each_notification_comes_once_however_many_addresses_reach_a_person()
    {
        using var mara = await s.WebSocket(s.Token("mara", "engineer", "bridge"));
        using var ivo = await s.WebSocket(s.Token("ivo", "engineer", "bridge"));
        await mara.Next("current");
        await ivo.Next("current");
        await s.Send("role:engineer user:mara role:bridge everyone", "one");
        await s.Send("everyone", "two");
        var toMara = await mara.Notifications(2);
        var toIvo = await ivo.Notifications(2);
        toMara.Select(n => (string)n["title"]!).ShouldBe(["one", "two"]);
        toMara.Select(n => (string)n["to"]!).ShouldBe(["user:mara", "everyone"]);
        toIvo.Select(n => (string)n["title"]!).ShouldBe(["one", "two"]);
        ((long)toIvo[1]["unread"]!).ShouldBe(2);
        // Nothing says who else was addressed.
        toIvo[0].ToJsonString().ShouldNotContain("mara");
    }

    [Theory, MemberData(nameof(Transports))]
    public async Task Whoever_was_away_is_caught_up_in_order_before_anything_new(string transport)
    {
        var token = s.Token("ivo", "engineer");
        string cursor;
        using (var before = await Connect(transport, token)) cursor = (string)(await before.Next("current"))["cursor"]!;
        for (int i = 0; i < 700; i++) await s.Send(i % 3 == 0 ? "user:ivo" : i % 3 == 1 ? "role:engineer" : "everyone", $"n{i}");
        using var back = await Connect(transport, token, "?after=" + cursor);
        var titles = new List<string>();
        while (await back.Next() is { } message)
        {
            if ((string)message["kind"]! == "current") break;
            if ((string)message["kind"]! == "notification") titles.Add((string)message["title"]!);
        }
        titles.ShouldBe(Enumerable.Range(0, 700).Select(i => $"n{i}"));
        await s.Send("user:ivo", "new");
        var fresh = await back.Next("notification");
        ((string)fresh["title"]!).ShouldBe("new");
        ((long)fresh["unread"]!).ShouldBe(701);
    }

    [Theory, MemberData(nameof(Transports))]
    public async Task From_catch_up_to_live_nothing_is_missing_or_doubled_while_sends_go_on(string transport)
    {
        using var stop = new CancellationTokenSource();
        int sent = 0;
        var sending = Task.WhenAll(Enumerable.Range(0, 4).Select(_ => Task.Run(async () =>
        {
            while (!stop.IsCancellationRequested)
            {
                await s.Send("role:engineer", "n");
                Interlocked.Increment(ref sent);
            }
        })));
        await Eventually.Holds(() => Volatile.Read(ref sent) > 200, "some are sent before anybody connects");
        var readers = Enumerable.Range(0, 6).Select(async reader =>
        {
            var ids = new List<string>();
            string? cursor = null;
            var token = s.Token($"reader{reader}", "engineer");
            for (int round = 0; round < 6; round++)
            {
                using var live = await Connect(transport, token, cursor is null ? "" : "?after=" + cursor);
                var opened = await live.Next("opened");
                for (int i = 0; i < 120; i++)
                {
                    var got = await live.Next("notification");
                    ids.Add((string)got["id"]!);
                    cursor = (string)got["cursor"]!;
                    if (i % 40 == 39) await Ack(live, token, opened, cursor);
                }
            }
            return ids;
        });
        var all = await Task.WhenAll(readers);
        await stop.CancelAsync();
        await sending;
        foreach (var ids in all)
        {
            ids.Count.ShouldBe(720);
            ids.ShouldBe(all[0]);
            ids.Distinct().Count().ShouldBe(720);
        }
    }

    [Fact]
    public async Task A_device_without_a_cursor_gets_what_no_device_of_the_user_has_received_yet()
    {
        var token = s.Token("mara", "engineer");
        using (var phone = await s.WebSocket(token, "?device=phone"))
        {
            await phone.Next("current");
            for (int i = 0; i < 3; i++) await s.Send("role:engineer", $"n{i}");
            var got = await phone.Notifications(3);
            await phone.Text($$"""{"kind":"ack","upTo":"{{got[1]["cursor"]}}","requestId":"a"}""");
            await phone.Next("done");
        }
        var stored = await Eventually.Holds(() => s.Get("/v1/inbox", token),
            a => a.Json!["items"]!.AsArray().Count(i => i!["state"]!["received"] is not null) == 2, "two are received");
        using var desk = await s.Events(token, "?device=desk");
        var opened = await desk.Next("opened");
        ((long)opened["totals"]!["unread"]!).ShouldBe(3);
        ((string)(await desk.Next("notification"))["title"]!).ShouldBe("n2");
        ((string)(await desk.Next())!["kind"]!).ShouldBe("current");
        // A device that has a cursor gets every entry after it, received elsewhere or not.
        using var tablet = await s.Events(token, "?after=" + (string)opened["cursor"]!);
        (await tablet.Notifications(1)).Single()["title"]!.ToString().ShouldBe("n2");
        using var now = await s.Events(token, "?after=now");
        await now.Next("current");
        await s.Send("user:mara", "live");
        ((string)(await now.Next("notification"))["title"]!).ShouldBe("live");
    }

    [Fact]
    public async Task Only_what_moves_the_cursor_has_an_SSE_id_and_Last_Event_ID_beats_the_URL()
    {
        var token = s.Token("mara", "engineer");
        using var stream = await s.Events(token);
        await stream.Next("opened");
        stream.Last.HasId.ShouldBeTrue();
        await stream.Next("current");
        stream.Last.HasId.ShouldBeTrue();
        await s.Send("role:engineer", "one");
        var first = await stream.Next("notification");
        stream.LastId.ShouldBe((string)first["cursor"]!);
        var id = await s.Send("role:engineer", "two");
        await stream.Next("notification");
        await s.Post("/v1/inbox/marks", token, $$$"""{"read":{"ids":["{{{id}}}"]}}""");
        await stream.Next("read");
        stream.Last.HasId.ShouldBeFalse();
        using var back = await s.Events(token, "?after=now", "Last-Event-ID: " + (string)first["cursor"]!);
        ((string)(await back.Next("notification"))["title"]!).ShouldBe("two");
    }

    [Theory, MemberData(nameof(Transports))]
    public async Task Read_on_one_device_changes_the_number_on_the_others_at_once(string transport)
    {
        var token = s.Token("mara", "engineer");
        using var phone = await s.WebSocket(token, "?device=phone");
        using var desk = await Connect(transport, token, "?device=desk");
        await phone.Next("current");
        await desk.Next("current");
        var ids = new List<string>();
        for (int i = 0; i < 3; i++) ids.Add(await s.Send("role:engineer"));
        await desk.Notifications(3);
        await phone.Notifications(3);
        await phone.Text($$"""{"kind":"markRead","ids":["{{ids[1]}}"],"requestId":"r1"}""");
        var done = await phone.Next("done");
        ((string)done["requestId"]!).ShouldBe("r1");
        ((long)done["totals"]!["unread"]!).ShouldBe(2);
        var read = await desk.Next("read");
        read["ids"]!.ToJsonString().ShouldBe($"[\"{ids[1]}\"]");
        ((long)read["totals"]!["unread"]!).ShouldBe(2);
        ((long)read["totals"]!["rev"]!).ShouldBe((long)done["totals"]!["rev"]!);
        await phone.Text($$"""{"kind":"markUnread","ids":["{{ids[1]}}"]}""");
        ((long)(await desk.Next("read"))["totals"]!["unread"]!).ShouldBe(3);
        await phone.Text("""{"kind":"markRead","all":true}""");
        ((long)(await desk.Next("read"))["totals"]!["unread"]!).ShouldBe(0);
        await s.Send("role:engineer");
        var next = await desk.Next("notification");
        ((long)next["unread"]!).ShouldBe(1);
        ((long)next["rev"]!).ShouldBe(3);
    }

    [Fact]
    public async Task A_lost_role_takes_its_notifications_out_of_sight_at_once_and_a_gained_one_is_announced()
    {
        using var desk = await s.WebSocket(s.Token("mara", "engineer"), "?device=desk");
        await desk.Next("current");
        await s.Send("role:engineer", "before");
        await s.Send("user:mara", "own");
        await desk.Notifications(2);
        var bridge = s.Token("mara", "bridge");
        (await s.Totals(bridge)).Unread.ShouldBe(1);
        var changed = await desk.Next("channels");
        changed["channels"]!.ToJsonString().ShouldBe("""["user:mara","role:bridge","everyone"]""");
        ((long)changed["totals"]!["unread"]!).ShouldBe(1);
        await s.Send("role:engineer", "not hers any more");
        await s.Send("role:bridge", "hers now");
        ((string)(await desk.Next("notification"))["title"]!).ShouldBe("hers now");
        (await s.Get("/v1/inbox", bridge)).Json!["items"]!.AsArray().Select(i => (string)i!["title"]!).ShouldBe(["hers now", "own"]);
    }

    [Theory]
    [InlineData("forged")]
    [InlineData("of another space")]
    public async Task A_cursor_that_is_not_of_this_life_gets_a_gap_and_then_what_is_there(string which)
    {
        await s.Send("user:mara", "kept");
        string cursor = "AAAAAAAAAAAAAAAAAAAAAA";
        if (which != "forged")
        {
            var there = TestTokens.Make(s.Credentials["harbour"].TokenSigningSecret, "mara");
            cursor = (string)(await s.Get("/s/harbour/v1/inbox", there)).Json!["cursor"]!;
        }
        using var live = await s.WebSocket(s.Token("mara"), "?after=" + cursor);
        await live.Next("opened");
        ((string)(await live.Next())!["reason"]!).ShouldBe("new-life");
        ((string)(await live.Next("notification"))["title"]!).ShouldBe("kept");
    }

    [Fact]
    [Trait("home", "folder")]
    public async Task A_cursor_beyond_the_end_of_a_store_put_back_gets_a_gap()
    {
        await s.Send("user:mara", "kept");
        await s.Service.DisposeAsync();
        var copy = Directory.CreateTempSubdirectory("rovett-copy-").FullName;
        foreach (var file in Directory.GetFiles(s.Folder)) File.Copy(file, Path.Combine(copy, Path.GetFileName(file)));
        await using var old = await ServiceUnderTest.Start(folder: copy);
        old.Credentials["main"] = s.Credentials["main"];
        for (int i = 0; i < 3; i++) await old.Send("user:mara", "only here");
        var ahead = (string)(await old.Get("/v1/inbox", s.Token("mara"))).Json!["cursor"]!;
        await s.Restart();
        using var live = await s.Events(s.Token("mara"), "?after=" + ahead);
        ((string)(await live.Next("gap"))["reason"]!).ShouldBe("new-life");
        ((string)(await live.Next("notification"))["title"]!).ShouldBe("kept");
    }

    [Fact]
    public async Task What_can_not_be_a_cursor_or_a_parameter_is_refused_by_name()
    {
        var token = s.Token("mara");
        var answer = await s.Get("/v1/live?after=xyz&device=a%00b&heartbeat=yes", token);
        (answer.Status, answer.Problem).ShouldBe((422, "invalid-fields"));
        answer.Json!["errors"]!.AsArray().Select(e => (string)e!["field"]!).ShouldBe(["device", "heartbeat", "after"], ignoreOrder: true);
        (await s.Call(HttpMethod.Get, "/v1/live", token, null, ("Accept", "image/png"))).Problem.ShouldBe("no-transport");
        using var version = await s.WebSocket(token, "", "Sec-WebSocket-Version: 8");
        version.Status.ShouldBe(426);
        version.Head.ShouldContain("Sec-WebSocket-Version: 13");
        using var key = await s.WebSocket(token, "", "Sec-WebSocket-Key: short");
        key.Status.ShouldBe(400);
    }

    [Fact]
    public async Task The_handshake_is_that_of_the_standard_and_streams_are_not_buffered()
    {
        using var socket = await s.WebSocket(s.Token("mara"));
        socket.Head.ShouldStartWith("HTTP/1.1 101");
        socket.Head.ShouldContain("Sec-WebSocket-Accept: s3pPLMBiTxaQ9kYGzzhZRbK+xOo=");
        socket.Head.ShouldContain("Sec-WebSocket-Protocol: rovett.v1");
        using var stream = await s.Events(s.Token("mara"));
        stream.Head.ShouldContain("Content-Type: text/event-stream");
        stream.Head.ShouldContain("Cache-Control: no-cache");
        stream.Head.ShouldContain("X-Accel-Buffering: no");
    }

    [Fact]
    public async Task A_quiet_stream_shows_signs_of_life_in_the_form_asked_for()
    {
        await using var quick = await ServiceUnderTest.Start(o => o.HeartbeatSeconds = 1);
        using var seen = await quick.Events(quick.Token("mara"), "?heartbeat=event");
        ((string)(await seen.Next("heartbeat"))["serverTime"]!).ShouldNotBeEmpty();
        using var comments = await quick.Events(quick.Token("mara"));
        await comments.Next("current");
        var next = comments.Next("notification");
        await Eventually.Holds(() => comments.Comments > 0, "a comment came");
        await quick.Send("user:mara");
        await next;
        // A WebSocket is pinged, and stays for as long as it answers.
        using var socket = await quick.WebSocket(quick.Token("ivo"));
        await socket.Next("current");
        var alive = socket.Next("notification");
        await seen.Next("heartbeat");
        await seen.Next("heartbeat");
        await seen.Next("heartbeat");
        await seen.Next("heartbeat");
        await quick.Send("user:ivo");
        await alive;
    }

    [Fact]
    public async Task A_WebSocket_that_answers_no_ping_is_let_go()
    {
        await using var quick = await ServiceUnderTest.Start(o => o.HeartbeatSeconds = 1);
        using var dead = await quick.WebSocket(quick.Token("mara"));
        await Eventually.Holds(async () => (int)(await quick.Get("/v1/status", quick.Key)).Json!["sessions"]!, n => n == 1,
            "it is connected");
        await Eventually.Holds(async () => (int)(await quick.Get("/v1/status", quick.Key)).Json!["sessions"]!, n => n == 0, "it is let go");
    }

    [Theory, MemberData(nameof(Transports))]
    public async Task A_clean_stop_tells_every_session_and_a_restart_goes_on_from_the_cursor(string transport)
    {
        var token = s.Token("mara", "engineer");
        using var live = await Connect(transport, token);
        await live.Next("current");
        await s.Send("role:engineer", "one");
        var cursor = (string)(await live.Next("notification"))["cursor"]!;
        await s.Send("role:engineer", "two");
        var restarting = s.Restart();
        var ending = await live.Next("ending");
        ((string)ending["reason"]!).ShouldBe("shutdown");
        ((int)ending["comeBackWithinMs"]!).ShouldBe(3000);
        (await live.Next()).ShouldBeNull();
        if (live is RawWebSocket socket) socket.CloseCode.ShouldBe(1001);
        await restarting;
        using var back = await Connect(transport, token, "?after=" + cursor);
        ((long)(await back.Next("opened"))["totals"]!["unread"]!).ShouldBe(2);
        ((string)(await back.Next("notification"))["title"]!).ShouldBe("two");
    }

    [Fact]
    public async Task The_window_holds_back_a_device_that_stops_acknowledging_and_an_ack_lets_it_go_on_in_order()
    {
        await using var small = await ServiceUnderTest.Start(o => (o.Window, o.AckTimeoutSeconds) = (8, 1));
        using var live = await small.WebSocket(small.Token("mara", "engineer"));
        await live.Next("current");
        await small.Send("role:engineer", "n0");
        await live.Text($$"""{"kind":"ack","upTo":"{{(await live.Next("notification"))["cursor"]}}"}""");
        for (int i = 1; i <= 30; i++) await small.Send("role:engineer", $"n{i}");
        var got = await live.Notifications(8);
        ((int)(await live.Next())!["outstanding"]!).ShouldBe(8); // ackDue, and nothing else
        while (got.Count < 30)
        {
            await live.Text($$"""{"kind":"ack","upTo":"{{got[^1]["cursor"]}}"}""");
            got.AddRange(await live.Notifications(Math.Min(8, 30 - got.Count)));
        }
        got.Select(n => (string)n["title"]!).ShouldBe(Enumerable.Range(1, 30).Select(i => $"n{i}"));
    }
}
