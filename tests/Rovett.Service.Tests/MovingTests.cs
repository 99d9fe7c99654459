using System.Text.Json.Nodes;
using Rovett.Testing;
using Shouldly;
using Xunit;

namespace Rovett.Service.Tests;

/// <summary>Sessions whose devices take <c>opened</c> again go on, on the same connection, when another node serves their space.</summary>
public sealed class MovingTests : IAsyncLifetime
{
    const string Stays = "?reopens=true";

    readonly ClusterGround ground = new();

    public async ValueTask InitializeAsync()
    {
        for (int i = 0; i < 3; i++) await ground.Add();
        await Move(0);
    }

    public ValueTask DisposeAsync() => ground.DisposeAsync();

    ServiceUnderTest First => ground.Nodes[0];

    async Task Move(int to)
    {
        ground.Ask($"INSERT INTO space_owner (space, term, wanted) VALUES (1, 0, '{ground.Nodes[to].NodeUrl}') ON CONFLICT (space) DO " +
            "UPDATE SET wanted=excluded.wanted");
        await Eventually.Holds(() => ground.OwnerOf("main") == ground.Nodes[to].NodeUrl, "the space is where it is wanted");
    }

    /// <summary>Connects, again while nobody serves the space.</summary>
    async Task<RawWebSocket> Open(int node, string token, string query = Stays)
    {
        for (int tries = 0; ; tries++)
        {
            var socket = await ground.Nodes[node].WebSocket(token, query);
            if (socket.Status == 101) return socket;
            socket.Status.ShouldBe(503);
            socket.Dispose();
            tries.ShouldBeLessThan(100);
        }
    }

    /// <summary>Sends, again while nobody serves the space.</summary>
    async Task<string> Send(string to, string title, string more = "")
    {
        var key = Guid.NewGuid().ToString();
        for (int tries = 0; ; tries++)
        {
            var sent = await ground.Nodes[tries % 3].Post("/v1/notifications", First.Key,
                $$"""{"to":["{{to}}"],"type":"test.happened","title":"{{title}}"{{more}}}""", ("Idempotency-Key", key));
            if (sent.Status is 200 or 201) return (string)sent.Json!["id"]!;
            sent.Status.ShouldBe(503, sent.Text);
            tries.ShouldBeLessThan(100);
        }
    }

    /// <summary>A device that reads, and acknowledges what it has read.</summary>
    sealed class Device(Func<Task<JsonObject?>> next, Func<string, Task> say)
    {
        public List<string> Titles { get; } = [];
        public int Opened { get; private set; }
        public string? Session { get; private set; }
        public string? EndedBy { get; private set; }
        public List<JsonObject> Answers { get; } = [];

        public async Task Read(string last, bool acknowledges = true)
        {
            while (await next() is { } message)
            {
                switch ((string)message["kind"]!)
                {
                    case "opened":
                        Opened++;
                        (Session ?? (string)message["session"]!).ShouldBe((string)message["session"]!);
                        Session = (string)message["session"]!;
                        break;
                    case "notification":
                        Titles.Add((string)message["title"]!);
                        if (acknowledges) await say($$"""{"kind":"ack","upTo":"{{message["cursor"]}}"}""");
                        if (Titles[^1] == last) return;
                        break;
                    case "ending":
                        EndedBy = (string)message["reason"]!;
                        break;
                    case "done" or "refused":
                        Answers.Add(message);
                        break;
                }
            }
        }
    }

    static Device Of(RawWebSocket socket) => new(() => socket.Next(), text => socket.Text(text));

    Device Of(RawEvents events, ServiceUnderTest node, string token)
    {
        Device device = null!;
        return device = new Device(() => events.Next(), async text => await node.Post($"/v1/live/{device.Session}", token, text));
    }

    Device Polled(ServiceUnderTest node, string token)
    {
        Device device = null!;
        int turn = 0;
        var waiting = new Queue<JsonObject>();
        return device = new Device(async () =>
        {
            while (waiting.Count == 0)
            {
                var answer = await node.Call(HttpMethod.Get, turn == 0 ? "/v1/live" + Stays : $"/v1/live/{device.Session}?turn={turn}",
                    token, null, ("Accept", "application/json"), ("Prefer", "wait=5"));
                answer.Status.ShouldBe(200, answer.Text);
                turn++;
                foreach (var message in answer.Json!.AsArray()) waiting.Enqueue((JsonObject)message!);
            }
            return waiting.Dequeue();
        }, async text => await node.Post($"/v1/live/{device.Session}", token, text));
    }

    [Fact]
    public async Task Whatever_node_serves_the_space_every_session_is_sent_everything_once_and_in_order()
    {
        const int Sends = 240;
        var devices = new List<Device>();
        var open = new List<IDisposable>();
        for (int i = 0; i < 3; i++)
        {
            var node = ground.Nodes[i];
            var socket = await Open(i, First.Token($"socket-{i}", "engineer"));
            var token = First.Token($"events-{i}", "engineer");
            var events = await node.Events(token, Stays);
            open.AddRange([socket, events]);
            devices.AddRange([Of(socket), Of(events, node, token), Polled(node, First.Token($"poll-{i}", "engineer"))]);
        }
        var reading = devices.Select(d => d.Read($"{Sends - 1}")).ToList();
        await Eventually.Holds(() => devices.All(d => d.Opened == 1), "all are open");
        var moving = Task.Run(async () =>
        {
            foreach (int to in (int[])[1, 2, 0, 2, 1]) await Move(to);
        }, TestContext.Current.CancellationToken);
        var ids = new List<string>();
        for (int i = 0; i < Sends - 1; i++) ids.Add(await Send("role:engineer", $"{i}"));
        await moving;
        await Eventually.Holds(() => devices.All(d => d.Opened > 1), "all were opened again", 20);
        ids.Add(await Send("role:engineer", $"{Sends - 1}"));
        await Task.WhenAll(reading);
        foreach (var device in devices)
        {
            device.EndedBy.ShouldBeNull();
            device.Titles.ShouldBe(Enumerable.Range(0, Sends).Select(i => $"{i}"));
        }
        // None of what they acknowledged is lost with the node that was told.
        foreach (var id in ids)
        {
            await Eventually.Holds(async () => (await First.Get($"/v1/notifications/{id}", First.Key)).Text,
                text => text.Contains($"\"received\":{devices.Count}", StringComparison.Ordinal), "all have received it");
        }
        (await First.Get("/v1/inbox/totals", First.Token("socket-1", "engineer"))).Json!["unread"]!.GetValue<long>().ShouldBe(Sends);
        foreach (var one in open) one.Dispose();
    }

    [Fact]
    public async Task What_a_device_asks_while_the_space_moves_is_answered()
    {
        using var socket = await Open(1, First.Token("mara", "engineer"));
        var device = Of(socket);
        var reading = device.Read("last");
        await Eventually.Holds(() => device.Opened == 1, "it is open");
        const int Asked = 60;
        var moving = Task.Run(async () =>
        {
            foreach (int to in (int[])[1, 2, 0]) await Move(to);
        }, TestContext.Current.CancellationToken);
        for (int i = 0; i < Asked; i++)
        {
            await socket.Text($$"""{"kind":"attend","subject":"vessel/{{i}}","requestId":"{{i}}"}""");
            await Eventually.Holds(() => device.Answers.Count == i + 1, $"{i} is answered");
        }
        await moving;
        await Send("user:mara", "last");
        await reading;
        device.Answers.ShouldAllBe(a => (string)a["kind"]! == "done");
    }

    [Fact]
    public async Task A_session_that_waits_in_vain_ends_and_leaves_nothing_behind()
    {
        const string Gone = "https://10.255.255.1:1";
        var holder = ground.Nodes[2];
        using (var socket = await Open(2, First.Token("mara")))
        {
            await socket.Next("current");
            // A node that can't be reached and gives signs of life all the same: nobody may take the space from it.
            ground.Ask($"INSERT INTO node (url, incarnation, version, speaks, joined, beat) VALUES ('{Gone}', gen_random_uuid(), 'x', 1, " +
                "clock_timestamp(), clock_timestamp()); UPDATE space_owner SET term=term+1, incarnation=(SELECT incarnation FROM node " +
                $"WHERE url='{Gone}')");
            await socket.Text("""{"kind":"attend","subject":"vessel/turnstone","requestId":"1"}""");
            var ending = socket.Next("ending");
            await Eventually.Holds(() =>
            {
                ground.Ask($"UPDATE node SET beat=clock_timestamp() WHERE url='{Gone}'");
                return ending.IsCompleted;
            }, "it does not wait for ever", 30);
            ((string)(await ending)["reason"]!).ShouldBe("moved");
        }
        ground.Ask($"DELETE FROM node WHERE url='{Gone}'");
        await Send("user:mara", "served again");
        var began = DateTimeOffset.UtcNow;
        await holder.Service.DisposeAsync();
        (DateTimeOffset.UtcNow - began).ShouldBeLessThan(TimeSpan.FromSeconds(6), "no session is waited for");
    }

    [Fact]
    public async Task A_device_that_does_not_take_it_is_told_to_come_back()
    {
        using var socket = await Open(2, First.Token("mara"), "");
        await socket.Next("opened");
        await Move(1);
        var ending = await socket.Next("ending");
        ((string)ending["reason"]!).ShouldBe("moved");
        ending["comeBackWithinMs"].ShouldNotBeNull();
        var refused = await First.Call(HttpMethod.Get, "/v1/live?reopens=maybe", First.Token("mara"), null,
            ("Accept", "text/event-stream"));
        refused.Status.ShouldBe(422);
        refused.Text.ShouldContain("reopens");
    }

    [Fact]
    public async Task Whoever_is_signed_out_while_the_space_moves_is_not_opened_again()
    {
        for (int round = 0; round < 6; round++)
        {
            var user = $"hand-{round}";
            using var socket = await Open(2, First.Token(user));
            await socket.Next("current");
            var moving = Move((round + 1) % 2);
            for (int status = 0; status is not (200 or 204);)
            {
                var signedOut = await First.Post($"/v1/users/{user}/sign-out", First.Key, "{}");
                status = signedOut.Status;
                if (status is not (200 or 204)) status.ShouldBe(503, signedOut.Text);
            }
            var id = await Send($"user:{user}", "after");
            await moving;
            bool hasEnded = false;
            while (await socket.Next() is { } message)
            {
                ((string?)message["id"]).ShouldNotBe(id);
                hasEnded |= (string)message["kind"]! == "ending";
            }
            hasEnded.ShouldBeTrue();
        }
    }
}
