using System.Text.Json.Nodes;
using Grpc.Core;
using Rovett.Core.Ledgers;
using Rovett.Service.Cluster;
using Rovett.Service.Ledgers;
using Rovett.Testing;
using Shouldly;
using Xunit;

namespace Rovett.Service.Tests;

/// <summary>Sessions of a space are held by the node that they came to, and fed by the one that serves the space.</summary>
public sealed class LinkTests : IAsyncLifetime
{
    readonly ClusterGround ground = new();
    ServiceUnderTest owner = null!, holder = null!;

    public async ValueTask InitializeAsync()
    {
        owner = await ground.Add();
        await Eventually.Holds(() => ground.OwnerOf("main") == owner.NodeUrl, "the first node serves everything");
        ground.Ask($"UPDATE space_owner SET wanted='{owner.NodeUrl}'");
        holder = await ground.Add();
    }

    public ValueTask DisposeAsync() => ground.DisposeAsync();

    string Token(string user, params string[] roles) => owner.Token(user, roles);

    async Task<string> Send(string to, string title, string more = "")
    {
        var sent = await holder.Post("/v1/notifications", owner.Key, $$"""{"to":["{{to}}"],"type":"test.happened","title":"{{title}}"{{more}}}""");
        sent.Status.ShouldBe(201, sent.Text);
        return (string)sent.Json!["id"]!;
    }

    async Task<JsonArray> Sessions() => (JsonArray)(await holder.Get("/v1/sessions", owner.Key)).Json!["sessions"]!;

    [Fact]
    public async Task The_node_that_a_session_came_to_holds_it()
    {
        var token = Token("mara", "engineer");
        using var socket = await holder.WebSocket(token, "?device=phone&label=Mara%27s%20phone");
        using var events = await holder.Events(Token("teo", "engineer"));
        using var here = await owner.WebSocket(Token("ivo", "engineer"));
        foreach (var one in (JsonObject[])[await socket.Next("opened"), await events.Next("opened"), await here.Next("opened")])
            ((JsonArray)one["channels"]!).Select(c => (string)c!).ShouldContain("role:engineer");
        holder.Service.HeldForOthers.ShouldBe(2);
        var id = await Send("role:engineer", "Check the pump");
        foreach (var next in (Task<JsonObject>[])[socket.Next("notification"), events.Next("notification"), here.Next("notification")])
        {
            var notified = await next;
            ((string)notified["id"]!).ShouldBe(id);
            ((int)notified["unread"]!).ShouldBe(1);
            ((int)notified["attempt"]!).ShouldBe(1);
        }
        // Who serves the space knows each session, as if it had its connection.
        await Eventually.Holds(async () => await Sessions(), s => s.Count == 3 && s.All(x => (int)x!["sent"]! == 1), "all were sent it");
        var mine = (await Sessions()).Single(s => (string)s!["user"]! == "mara")!;
        ((string)mine["label"]!).ShouldBe("Mara's phone");
        ((string)mine["state"]!).ShouldBe("live");
        ((string)mine["transport"]!).ShouldBe("websocket");
        var ended = await holder.Call(HttpMethod.Delete, $"/v1/sessions/{mine["session"]}", owner.Key);
        ended.Status.ShouldBe(204, ended.Text);
        ((string)(await socket.Next("ending"))["reason"]!).ShouldBe("ended");
        await Eventually.Holds(async () => (await Sessions()).Count, n => n == 2, "it is not counted any more");
    }

    [Fact]
    public async Task What_is_taken_away_is_not_sent_by_the_node_that_holds_the_session_once_it_is_answered()
    {
        using var socket = await holder.WebSocket(Token("mara"));
        await socket.Next("current");
        for (int round = 0; round < 20; round++)
        {
            (await owner.Call(HttpMethod.Put, "/v1/users/mara", owner.Key, """{"roles":["engineer"]}""")).Status.ShouldBeLessThan(300);
            var sending = Task.WhenAll(Enumerable.Range(0, 8).Select(i => Send("role:engineer", $"{round}-{i}")));
            (await owner.Call(HttpMethod.Put, "/v1/users/mara", owner.Key, """{"roles":[]}""")).Status.ShouldBeLessThan(300);
            await socket.Text($$"""{"kind":"attend","subject":null,"requestId":"{{round}}"}""");
            await sending;
            await Send("role:engineer", $"{round}-after");
            await Send("user:mara", $"{round}-end");
            for (string? title = null; title != $"{round}-end";)
            {
                var message = await socket.Next("notification");
                title = (string?)message["title"];
                title!.ShouldNotEndWith("after");
            }
        }
    }

    [Fact]
    public async Task A_user_has_as_many_sessions_as_may_be_on_all_nodes_together()
    {
        (await owner.Call(HttpMethod.Patch, "/v1/settings", owner.Key, """{"limits":{"sessionsPerUser":2}}""")).Status.ShouldBe(200);
        var token = Token("mara");
        using var one = await holder.WebSocket(token);
        await one.Next("opened");
        using (var two = await owner.WebSocket(token))
        {
            await two.Next("opened");
            (await holder.Call(HttpMethod.Get, "/v1/live", token, null, ("Accept",
                "text/event-stream"))).Problem.ShouldBe("too-many-sessions");
            (await owner.Call(HttpMethod.Get, "/v1/live", token, null, ("Accept",
                "text/event-stream"))).Problem.ShouldBe("too-many-sessions");
        }
        await Eventually.Holds(async () => (await Sessions()).Count, n => n == 1, "one has ended");
        using var three = await holder.WebSocket(token);
        await three.Next("opened");
    }

    [Fact]
    public async Task Hundreds_that_come_at_once_are_let_in_and_each_is_sent_what_comes()
    {
        const int Many = 300;
        async Task<RawWebSocket> Connect(int i)
        {
            for (int tries = 1; ; tries++)
            {
                var socket = await holder.WebSocket(Token($"hand-{i}", "engineer"));
                try
                {
                    await socket.Next("current");
                    return socket;
                }
                catch (InvalidOperationException refused) when (tries < 10 && refused.Message.Contains("503", StringComparison.Ordinal))
                {
                    socket.Dispose(); // a database that is slow for a moment; devices come again, too
                }
            }
        }

        var sockets = await Task.WhenAll(Enumerable.Range(0, Many).Select(Connect));
        holder.Service.HeldForOthers.ShouldBe(Many);
        string[] ids = [await Send("role:engineer", "Check the pump"), await Send("role:engineer", "Check it again")];
        foreach (var socket in sockets)
        {
            foreach (var id in ids) ((string)(await socket.Next("notification"))["id"]!).ShouldBe(id);
            socket.Dispose();
        }
        await Eventually.Holds(async () => (await Sessions()).Count, n => n == 0, "the node that serves has seen all of them go");
        holder.Service.HeldForOthers.ShouldBe(0);
    }

    [Fact]
    public async Task Devices_of_one_user_at_two_nodes_agree()
    {
        var token = Token("mara");
        using var desk = await owner.WebSocket(token, "?device=desk");
        using var phone = await holder.WebSocket(token, "?device=phone");
        await desk.Next("current");
        await phone.Next("current");
        var id = await Send("user:mara", "Check the pump");
        foreach (var device in (RawWebSocket[])[desk, phone]) ((int)(await device.Next("notification"))["unread"]!).ShouldBe(1);
        await phone.Text($$"""{"kind":"markRead","ids":["{{id}}"],"requestId":"m"}""");
        ((int)(await phone.Next("done"))["totals"]!["unread"]!).ShouldBe(0);
        (await desk.Next("read")).ToJsonString().ShouldContain("\"unread\":0");
        // A send that one of them causes is not sent to that one.
        var session = (await Sessions()).Single(s => (string)s!["device"]! == "phone")!["session"]!;
        (await holder.Post("/v1/notifications", owner.Key, """{"to":["user:mara"],"type":"t","title":"By the phone"}""", ("Rovett-Session", (string)session!)))
            .Status.ShouldBe(201);
        await Send("user:mara", "By somebody else");
        ((string)(await desk.Next("notification"))["title"]!).ShouldBe("By the phone");
        ((string)(await phone.Next("notification"))["title"]!).ShouldBe("By somebody else");
    }

    [Fact]
    public async Task A_token_is_read_for_the_newest_policies_also_at_a_node_that_has_not_heard_of_them()
    {
        static async Task<string> Follows(RawWebSocket socket, string topic)
        {
            await socket.Text($$"""{"kind":"follow","topic":"{{topic}}","requestId":"{{topic}}"}""");
            for (; ; )
            {
                var next = (await socket.Next())!;
                if ((string?)next["requestId"] == topic) return (string)next["kind"]!;
            }
        }

        string Claiming(string user, string vessel) => TestTokens.Make(owner.Secret, user, [], change: c => c["vessel"] = vessel);
        using var before = await holder.WebSocket(Claiming("mara", "turnstone"));
        await before.Next("current");
        // Stops the server processes through which nodes hear of changes.
        var told = ((string)ground.Ask("SELECT string_agg(pid::text, ' ') FROM pg_stat_activity WHERE datname=current_database() AND " +
            "(query LIKE 'LISTEN%' OR query LIKE 'SELECT h.version%')")!).Split(' ');
        try
        {
            ServiceProcess.Pause(told, isPaused: true);
            var loaded = await holder.Call(HttpMethod.Put, "/v1/policies", owner.Key, """
                {"policies":[{"name":"one's vessel","topic":"sailing/{vessel}","may":["follow"],"when":{"claims":{"vessel":"{vessel}"}}}]}
                """);
            loaded.Status.ShouldBe(200, loaded.Text);
            using var after = await holder.WebSocket(Claiming("teo", "turnstone"));
            (await Follows(after, "sailing/turnstone")).ShouldBe("done");
            (await Follows(after, "sailing/kittiwake")).ShouldBe("refused");
            await before.Text($$"""{"kind":"renew","token":"{{Claiming("mara", "kittiwake")}}","requestId":"r"}""");
            await before.Next("done");
            (await Follows(before, "sailing/kittiwake")).ShouldBe("done");
        }
        finally
        {
            ServiceProcess.Pause(told, isPaused: false);
        }
    }

    [Fact]
    public async Task Without_tls_between_nodes_connections_are_passed_on()
    {
        await using var clear = new ClusterGround();
        var first = await clear.Add(scheme: "http");
        await Eventually.Holds(() => clear.OwnerOf("main") == first.NodeUrl, "the first node serves everything");
        clear.Ask($"UPDATE space_owner SET wanted='{first.NodeUrl}'");
        var second = await clear.Add(scheme: "http");
        using var socket = await second.WebSocket(first.Token("mara"));
        await socket.Next("current");
        second.Service.HeldForOthers.ShouldBe(0);
        await first.Send("user:mara", "Check the pump");
        ((string)(await socket.Next("notification"))["title"]!).ShouldBe("Check the pump");
    }

    [Fact]
    public async Task An_end_that_takes_nothing_breaks_the_link()
    {
        var queue = new FrameQueue<string>(static text => text.Length);
        int added = 0;
        while (queue.Add(new string('x', 1 << 20)) && added < 100) added++;
        added.ShouldBe(8);
        await Should.ThrowAsync<IOException>(() => queue.WriteTo(new Nowhere(), TestContext.Current.CancellationToken));
    }

    sealed class Nowhere : IAsyncStreamWriter<string>
    {
        public WriteOptions? WriteOptions { get; set; }

        public Task WriteAsync(string message) => Task.CompletedTask;

        public Task WriteAsync(string message, CancellationToken cancellationToken) => Task.CompletedTask;
    }

    sealed class Hand : IElapsedTime
    {
        public TimeSpan Elapsed { get; set; } = TimeSpan.FromSeconds(100);
        public string Boot => "test";
    }

    [Fact]
    public void After_a_process_has_died_it_is_waited_until_nobody_acts_on_what_it_said()
    {
        var clock = new Hand();
        var lease = new Lease(clock);
        lease.Renewed(clock.Elapsed);
        lease.Left.ShouldBe(Lease.Lasts);
        using var gate = new RevocationGate(lease);
        int answers = 0;
        gate.WhenItCounts(["main"], () => answers++);
        answers.ShouldBe(1);
        gate.HoldBack("main");
        gate.WhenItCounts(["harbour"], () => answers++);
        answers.ShouldBe(2);
        gate.WhenItCounts(["harbour", "main"], () => answers += 10);
        clock.Elapsed += Lease.Lasts - TimeSpan.FromMilliseconds(1);
        gate.Look();
        answers.ShouldBe(2);
        clock.Elapsed += TimeSpan.FromMilliseconds(2);
        gate.Look();
        answers.ShouldBe(12);
        gate.WhenItCounts(["main"], () => answers++);
        answers.ShouldBe(13);
        lease.Left.ShouldBe(TimeSpan.Zero);
    }
}
