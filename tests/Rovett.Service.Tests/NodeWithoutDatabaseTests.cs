using System.Diagnostics;
using Npgsql;
using Rovett.Testing;
using Shouldly;
using Xunit;

namespace Rovett.Service.Tests;

/// <summary>A node that loses its way to the database while another keeps it.</summary>
public sealed class NodeWithoutDatabaseTests : IAsyncLifetime
{
    readonly ClusterGround ground = new();
    readonly Front way = new();

    public async ValueTask InitializeAsync()
    {
        way.Leads([ground.DatabasePort]);
        await ground.Add();
        await ground.Add(o => o.Database = new NpgsqlConnectionStringBuilder(ground.Database)
        { Host = way.Url.Host, Port = way.Url.Port }.ToString());
    }

    public async ValueTask DisposeAsync()
    {
        way.Leads([ground.DatabasePort]);
        await ground.DisposeAsync();
        way.Dispose();
    }

    async Task Move(string space, int to)
    {
        await Eventually.Holds(() => ground.Nodes[0].Post("/v1/cluster/moves", ground.Nodes[0].Key,
            $$"""{"space":"{{space}}","node":"{{ground.Nodes[to].NodeUrl}}"}"""), answer => answer.Status == 200, "the node is known");
        await Eventually.Holds(() => ground.OwnerOf(space) == ground.Nodes[to].NodeUrl, $"{space} is where it is wanted");
    }

    /// <summary>The title of the first notification that a new session is sent; how it ended, if it ended before.</summary>
    static async Task<string> TitleAt(ServiceUnderTest node)
    {
        using var session = await node.WebSocket(node.Token("mara"), "");
        try
        {
            return (string)(await session.Next("notification"))["title"]!;
        }
        catch (IOException ended)
        {
            return ended.Message;
        }
    }

    [Theory]
    [InlineData(0)]
    [InlineData(1)]
    public async Task It_ends_its_sessions_whoever_serves_their_space_and_they_miss_nothing(int serves)
    {
        var (first, cut) = (ground.Nodes[0], ground.Nodes[1]);
        await Move("main", serves);
        using var socket = await cut.WebSocket(first.Token("mara"), "?reopens=true");
        await socket.Next("current");
        var clock = Stopwatch.StartNew();
        way.Cut();
        await Eventually.Holds(() => cut.Get("/readyz", null), answer => answer.Problem == "node-unavailable", "it is not ready");
        var reason = (string)(await socket.Next("ending"))["reason"]!;
        if (serves == 0)
        {
            reason.ShouldBe("node-unavailable");
            clock.Elapsed.ShouldBeGreaterThan(TimeSpan.FromSeconds(8), "a database that is away for a moment ends nobody's session");
        }
        else reason.ShouldBeOneOf("node-unavailable", "store-unavailable"); // earlier if it was about to store something
        var sent = await Eventually.Holds(() => first.Post("/v1/notifications", first.Key,
            """{"to":["user:mara"],"type":"test.happened","title":"Meanwhile"}"""), answer => answer.Status != 503, "the other node serves");
        sent.Status.ShouldBe(201, sent.Text);
        await Eventually.Holds(() => TitleAt(first), title => title == "Meanwhile", "a session at the other node is sent it");

        way.Leads([ground.DatabasePort]);
        await Eventually.Holds(() => cut.Get("/readyz", null), answer => answer.Status == 200, "it is ready again", 30);
        using var again = await cut.WebSocket(first.Token("mara"), "");
        ((string)(await again.Next("notification"))["title"]!).ShouldBe("Meanwhile");
    }
}
