using Rovett.Testing;
using Shouldly;
using Xunit;

namespace Rovett.Service.Tests;

/// <summary>Several nodes share a database: each space is served by one of them, every one takes every request.</summary>
public sealed class ClusterTests : IAsyncLifetime
{
    static readonly string[] Spaces = ["main", "harbour", "fleet"];

    readonly ClusterGround ground = new();
    ServiceUnderTest first = null!, second = null!, third = null!;

    public async ValueTask InitializeAsync()
    {
        first = await ground.Add();
        second = await ground.Add();
        third = await ground.Add();
    }

    public ValueTask DisposeAsync() => ground.DisposeAsync();

    static string Path(string space, string path) => space == "main" ? path : $"/s/{space}{path}";

    [Fact]
    public async Task Every_node_takes_every_request_for_every_space()
    {
        second.Credentials.ShouldBeEmpty("the first node made them");
        foreach (var space in Spaces)
        {
            var credentials = first.Credentials[space];
            foreach (var node in ground.Nodes)
            {
                var sent = await node.Post(Path(space, "/v1/notifications"), credentials.AdminKey,
                    """{"to":["user:mara"],"type":"test.happened","title":"Something happened"}""");
                sent.Status.ShouldBe(201, sent.Text);
            }
            foreach (var node in ground.Nodes)
            {
                var totals = await node.Get(Path(space, "/v1/inbox/totals"), TestTokens.Make(credentials.TokenSigningSecret, "mara"));
                ((long)totals.Json!["unread"]!).ShouldBe(3, totals.Text);
            }
        }
    }
}
