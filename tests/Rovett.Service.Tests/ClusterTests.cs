using System.Net.Sockets;
using System.Text;
using Rovett.Service.Cluster;
using Rovett.Service.Options;
using Rovett.Storage;
using Rovett.Storage.Postgres;
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

    ServiceUnderTest OwnerOf(string space) => ground.Nodes.Single(n => n.NodeUrl == ground.OwnerOf(space));

    ServiceUnderTest OtherThan(ServiceUnderTest node) => ground.Nodes.First(n => n != node);

    /// <summary>Each node serves a space.</summary>
    async Task Settles()
    {
        foreach (var (space, node) in Spaces.Zip(ground.Nodes))
        {
            ground.Ask($"INSERT INTO space_owner (space, term, wanted) SELECT id, 0, '{node.NodeUrl}' FROM space WHERE name='{space}' " +
                "ON CONFLICT (space) DO UPDATE SET wanted=excluded.wanted");
        }
        foreach (var (space, node) in Spaces.Zip(ground.Nodes))
        {
            await Eventually.Holds(() => ground.OwnerOf(space) == node.NodeUrl, $"{space} is where it is wanted");
        }
    }

    [Fact]
    public async Task A_session_over_each_transport_goes_through_any_node()
    {
        await Settles();
        var owner = OwnerOf("main");
        var other = OtherThan(owner);
        var token = first.Token("mara", "engineer");
        using var socket = await other.WebSocket(token);
        using var events = await other.Events(token);
        var session = (string)(await socket.Next("opened"))["session"]!;
        var streamed = (string)(await events.Next("opened"))["session"]!;
        var polled = await other.Call(HttpMethod.Get, "/v1/live", token, null, ("Accept", "application/json"), ("Prefer", "wait=1"));
        var polling = (string)polled.Json![0]!["session"]!;
        await SendBy(other, "role:engineer", "Check the pump");
        var notified = await socket.Next("notification");
        ((string)(await events.Next("notification"))["id"]!).ShouldBe((string)notified["id"]!);
        // What devices say reaches the node that has the session, over the socket and by requests of their own.
        await socket.Text($$"""{"kind":"ack","upTo":"{{notified["cursor"]}}"}""");
        (await third.Get($"/v1/live/{polling}?turn=1", token)).Text.ShouldContain((string)notified["id"]!);
        var acked = await third.Post($"/v1/live/{streamed}", token, $$"""{"kind":"ack","upTo":"{{notified["cursor"]}}"}""");
        acked.Status.ShouldBeLessThan(300, acked.Text);
        await Eventually.Holds(async () => (await other.Get($"/v1/notifications/{notified["id"]}", first.Key)).Text,
            text => text.Contains("\"received\":1", StringComparison.Ordinal), "the acknowledgement is stored");
        session.ShouldNotBe(streamed);
    }

    async Task SendBy(ServiceUnderTest node, string to, string title)
    {
        var sent = await node.Post("/v1/notifications", first.Key, $$"""{"to":["{{to}}"],"type":"test.happened","title":"{{title}}"}""");
        sent.Status.ShouldBe(201, sent.Text);
    }

    [Fact]
    public async Task A_node_that_stops_gives_its_spaces_up_and_its_sessions_come_back_elsewhere()
    {
        await Settles();
        var owner = OwnerOf("main");
        var other = OtherThan(owner);
        var token = first.Token("mara");
        using var socket = await other.WebSocket(token);
        var opened = await socket.Next("opened");
        await SendBy(other, "user:mara", "before");
        var before = await socket.Next("notification");
        var stopping = owner.Service.DisposeAsync().AsTask();
        var began = DateTimeOffset.UtcNow;
        await SendBy(other, "user:mara", "while it stops"); // waits until another node has the space
        (DateTimeOffset.UtcNow - began).ShouldBeLessThan(TimeSpan.FromSeconds(2));
        ((string)(await socket.Next("ending"))["reason"]!).ShouldBe("moved");
        (await socket.Next()).ShouldBeNull();
        await stopping;
        ground.Ask("SELECT count(*) FROM node").ShouldBe(2L);
        using var again = await other.WebSocket(token, $"?after={before["cursor"]}");
        ((string)(await again.Next("notification"))["title"]!).ShouldBe("while it stops");
        ((long)(await other.Get("/v1/inbox/totals", token)).Json!["unread"]!).ShouldBe(2);
        opened.ShouldNotBeNull();
    }

    [Fact]
    public async Task A_space_that_another_took_is_written_there_only()
    {
        await Settles();
        var owner = OwnerOf("harbour");
        var credentials = first.Credentials["harbour"];
        var token = TestTokens.Make(credentials.TokenSigningSecret, "mara");
        using var socket = await RawWebSocket.Connect(owner.Port, "/s/harbour/v1/live", token);
        await socket.Next("opened");
        // As if it had been paused for long.
        ground.Ask("UPDATE space_owner SET term=term+1, incarnation=NULL WHERE space=(SELECT id FROM space WHERE name='harbour')");
        await Eventually.Holds(() => owner.Post("/s/harbour/v1/notifications", credentials.AdminKey,
            """{"to":["user:mara"],"type":"test.happened","title":"Something happened"}"""), sent =>
            {
                if (sent.Status != 201) sent.Problem.ShouldBeOneOf("space-moved", "space-unserved");
                return sent.Status == 201;
            }, "it is sent by who has the space now");
        // The session ended with the term, whoever has the space now.
        await Eventually.Holds(async () => await socket.Next(), message => message is null || (string)message["kind"]! == "ending",
            "the session ends");
        ground.Ask("SELECT count(*) FROM entry e JOIN space s ON e.key>>44=s.id WHERE s.name='harbour' AND e.kind=1").ShouldBe(1L);
    }

    [Fact]
    public async Task A_node_that_lost_a_space_with_its_connections_is_ready_again()
    {
        await Settles();
        var life = ground.Ask("SELECT incarnation FROM space_owner WHERE space=1");
        // As if it had been paused for long: another has the space, and its connections were ended.
        ground.Ask($"UPDATE space_owner SET term=term+1, wanted='{second.NodeUrl}', incarnation=(SELECT incarnation FROM node WHERE " +
            $"url='{second.NodeUrl}') WHERE space IN (0, 1); SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE " +
            $"application_name='rovett {life:N}'");
        await first.Post("/v1/notifications", first.Key, """{"to":["user:mara"],"type":"test.happened","title":"Something happened"}""");
        foreach (var node in ground.Nodes)
        {
            await Eventually.Holds(async () => (await node.Get("/readyz", null)).Text,
                text => text.StartsWith("ready", StringComparison.Ordinal), $"{node.NodeUrl} is ready");
        }
        await Eventually.Holds(async () => (await first.Post("/v1/notifications", first.Key,
            """{"to":["user:mara"],"type":"test.happened","title":"Something happened"}""")).Status, status => status == 201, "a send is taken");
    }

    [Fact]
    public async Task Whoever_does_not_know_the_secret_is_not_let_in_at_the_nodes_address()
    {
        using var http = new HttpClient(new HttpClientHandler
        { ServerCertificateCustomValidationCallback = HttpClientHandler.DangerousAcceptAnyServerCertificateValidator });
        using var refused = await http.GetAsync(new Uri($"{first.NodeUrl}/v1/spaces"), TestContext.Current.CancellationToken);
        ((int)refused.StatusCode).ShouldBe(403);
        (await refused.Content.ReadAsStringAsync(TestContext.Current.CancellationToken)).ShouldContain("not-a-node");
        using var guess = new HttpRequestMessage(HttpMethod.Get, new Uri($"{first.NodeUrl}/v1/spaces"));
        guess.Headers.Add("Rovett-Cluster-Secret", new string('x', 40));
        using var again = await http.SendAsync(guess, TestContext.Current.CancellationToken);
        ((int)again.StatusCode).ShouldBe(403);
    }

    [Fact]
    public async Task The_address_of_whoever_asks_is_known_to_the_node_that_serves_the_space()
    {
        await Settles();
        var other = OtherThan(OwnerOf("main"));
        using var request = new HttpRequestMessage(HttpMethod.Post, new Uri(other.Url, "/console/api/sign-in"));
        request.Headers.Add("X-Rovett-Console", "1");
        request.Headers.Add("Rovett-Client", "10.9.8.7"); // only nodes are believed
        request.Content = new StringContent("""{"name":"nobody","password":"wrong-password"}""", null, "application/json");
        using var http = new HttpClient();
        using var refused = await http.SendAsync(request, TestContext.Current.CancellationToken);
        ((int)refused.StatusCode).ShouldBe(401);
        ground.Ask("SELECT address FROM sign_in ORDER BY time DESC LIMIT 1").ShouldBe("127.0.0.1");
    }

    [Fact]
    public async Task A_change_of_credentials_by_one_node_counts_on_all_when_it_is_answered_for_the_space()
    {
        await Settles();
        var made = await second.Post("/v1/keys", first.Key, """{"name":"reports","scopes":["read"]}""");
        var (key, id) = ((string)made.Json!["key"]!, (string)made.Json["id"]!);
        foreach (var node in ground.Nodes) (await node.Get("/v1/users", key)).Status.ShouldBe(200);
        (await third.Call(HttpMethod.Delete, $"/v1/keys/{id}", first.Key)).Status.ShouldBeLessThan(300);
        foreach (var node in ground.Nodes) (await node.Get("/v1/users", key)).Problem.ShouldBe("api-key-revoked");
    }

    [Fact]
    public async Task A_new_space_is_served_at_once_through_any_node()
    {
        await Settles();
        var made = await second.Post("/v1/spaces", first.Key, """{"name":"dock"}""");
        made.Status.ShouldBe(201, made.Text);
        var key = (string)made.Json!["credentials"]!["adminKey"]!;
        foreach (var node in ground.Nodes) (await node.Get("/s/dock/v1/users", key)).Status.ShouldBe(200);
        (await first.Get("/s/nowhere/v1/users", key)).Problem.ShouldBe("unknown-space");
    }

    [Fact]
    public async Task Operators_see_where_spaces_are_move_them_and_drain_a_node()
    {
        await Settles();
        var listed = await third.Get("/v1/cluster", first.Key);
        listed.Json!["nodes"]!.AsArray().Count.ShouldBe(3);
        ((string)listed.Json["node"]!).ShouldBe(third.NodeUrl);
        var moved = await third.Post("/v1/cluster/moves", first.Key, $$"""{"space":"harbour","node":"{{first.NodeUrl}}"}""");
        moved.Status.ShouldBe(200, moved.Text);
        NodeOf(moved, "harbour").ShouldBe(first.NodeUrl);
        (await third.Post("/v1/cluster/moves", first.Key, """{"space":"nowhere"}""")).Problem.ShouldBe("unknown-space");
        (await third.Post("/v1/cluster/moves", first.Key, """{"space":"harbour","node":"https://10.9.8.7:1"}""")).Problem
            .ShouldBe("unknown-node");
        (await third.Post("/v1/cluster/moves", first.Credentials["harbour"].AdminKey, """{"space":"harbour"}""")).Status.ShouldBe(403);

        var drained = await second.Post("/v1/cluster/drains", first.Key, $$"""{"node":"{{first.NodeUrl}}"}""");
        drained.Status.ShouldBe(200, drained.Text);
        drained.Json!["spaces"]!.AsArray().Select(s => (string?)s!["node"]).ShouldNotContain(first.NodeUrl);
        (await first.Get("/readyz", null)).Problem.ShouldBe("node-leaving");
        (await first.Get("/s/harbour/v1/users", first.Credentials["harbour"].AdminKey)).Status.ShouldBe(200, "it passes requests on");
        (await second.Post("/v1/cluster/drains", first.Key, $$"""{"node":"{{first.NodeUrl}}","drains":false}""")).Status.ShouldBe(200);
        await Eventually.Holds(async () => (await first.Get("/readyz", null)).Status, status => status == 200, "it is ready again");
        var status = await third.Get("/v1/status", first.Key);
        status.Json!["nodes"]!.AsArray().Count.ShouldBe(3);
    }

    [Fact]
    public async Task A_space_with_a_request_under_way_is_not_taken_for_one_that_nobody_uses()
    {
        await Settles();
        var nodes = ground.Nodes.ConvertAll(n => new NodeRow(n.NodeUrl!, Guid.NewGuid(), "", null, TimeSpan.FromMinutes(1), TimeSpan.Zero,
            IsLeaving: false, IsConnected: true, []));
        string Belongs(string space) => Placing.Of(new OwnedSpace(1, space, 1, null, null), nodes)!.Url;
        // Both are where they do not belong, at the same node.
        var at = ground.Nodes.First(n => n.NodeUrl != Belongs("harbour") && n.NodeUrl != Belongs("fleet"));
        void Want(string node) =>
            ground.Ask($"UPDATE space_owner o SET wanted={node} FROM space s WHERE s.id=o.space AND s.name IN ('harbour', 'fleet')");
        Want($"'{at.NodeUrl}'");
        await Eventually.Holds(() => ground.OwnerOf("harbour") == at.NodeUrl && ground.OwnerOf("fleet") == at.NodeUrl, "they are there");
        const string notification = """{"to":["user:mara"],"type":"test.happened","title":"On its way for a while"}""";
        using var slow = new TcpClient("127.0.0.1", at.Port);
        await slow.GetStream().WriteAsync(Encoding.ASCII.GetBytes("POST /s/harbour/v1/notifications HTTP/1.1\r\nHost: x\r\nContent-Type: " +
            $"application/json\r\nAuthorization: Bearer {first.Credentials["harbour"].AdminKey}\r\nContent-Length: {notification.Length}\r\n" +
            "Expect: 100-continue\r\n\r\n"));
        using var answer = new StreamReader(slow.GetStream());
        (await answer.ReadLineAsync())!.ShouldContain(" 100 ", Case.Sensitive, "its body is asked for");
        await answer.ReadLineAsync();
        Want("NULL");
        await Eventually.Holds(() => ground.OwnerOf("fleet") == Belongs("fleet"), "what nobody uses goes where it belongs");
        ground.OwnerOf("harbour").ShouldBe(at.NodeUrl, "it is looked at first, and in use");
        await slow.GetStream().WriteAsync(Encoding.ASCII.GetBytes(notification));
        (await answer.ReadLineAsync())!.ShouldContain(" 201 ");
        await Eventually.Holds(() => ground.OwnerOf("harbour") == Belongs("harbour"), "then it goes, too");
    }

    static string? NodeOf(Answer cluster, string space) =>
        (string?)cluster.Json!["spaces"]!.AsArray().Single(s => (string)s!["space"]! == space)!["node"];

    [Theory]
    [InlineData("http://10.0.0.5:7412", "database", "in the clear")]
    [InlineData("10.0.0.5:7412", "database", "is not a node's address")]
    [InlineData("https://10.0.0.5:7412/path", "database", "is not a node's address")]
    [InlineData("https://10.0.0.5:7412", null, "needs a 'database'")]
    public void Mistakes_in_what_a_node_is_told_are_named(string url, string? database, string mistake)
    {
        var flags = new Dictionary<string, string> { ["nodeUrl"] = url, ["clusterSecretFile"] = ground.SecretFile };
        if (database is not null) flags["database"] = "Host=127.0.0.1;Database=rovett";
        OptionsReader.Read(null, new Dictionary<string, string>(), flags, out var mistakes);
        mistakes.ShouldHaveSingleItem().ToString().ShouldContain(mistake);
    }

    [Fact]
    public async Task A_service_that_has_a_database_to_itself_and_a_node_do_not_write_beside_each_other()
    {
        (await Should.ThrowAsync<StoreException>(() => ServiceUnderTest.Start(o => o.Database = ground.Database))).Message
            .ShouldContain("Another service");
        await using var alone = await ServiceUnderTest.Start();
        (await alone.Get("/v1/cluster", alone.Key)).Problem.ShouldBe("no-cluster");
    }
}
