using System.Text.Json.Nodes;
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
}
