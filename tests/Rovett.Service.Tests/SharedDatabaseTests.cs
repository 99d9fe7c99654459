using System.Collections.Concurrent;
using System.Text;
using Npgsql;
using Rovett.Service.Credentials;
using Rovett.Storage.Access;
using Rovett.Storage.Homes;
using Rovett.Testing;
using Rovett.Testing.Servers;
using Shouldly;
using Xunit;

namespace Rovett.Service.Tests;

/// <summary>Changes made by another process on the same database take effect here: at once by a notification of the server, within a
/// second or two if that is lost.</summary>
public sealed class SharedDatabaseTests : IAsyncLifetime
{
    static readonly (string, string) Own = ("X-Rovett-Console", "1");
    readonly PostgresServer server = new();
    string database = "";
    ServiceUnderTest s = null!;
    PostgresHome home = null!;
    AccessStore other = null!;

    public async ValueTask InitializeAsync()
    {
        database = server.NewDatabase();
        s = await ServiceUnderTest.Start(o => (o.Database, o.Spaces, o.WebhookNetworks, o.FullReceipts) =
            (database, ["harbour"], ["127.0.0.1/32"], ["test.*"]));
        home = new PostgresHome(database);
        other = home.OpenAccess();
    }

    public async ValueTask DisposeAsync()
    {
        other.Dispose();
        home.Dispose();
        await s.DisposeAsync();
        server.Dispose();
    }

    static long Now => DateTimeOffset.UtcNow.ToUnixTimeMilliseconds() * 1000;

    Task Becomes(string path, string credential, int status, string what) =>
        Eventually.Holds(async () => (await s.Get(path, credential)).Status, answered => answered == status, what);

    void Run(string sql)
    {
        using var connection = new NpgsqlConnection(database + ";Pooling=false");
        connection.Open();
        using var command = new NpgsqlCommand(sql, connection);
        command.ExecuteNonQuery();
    }

    [Fact]
    public async Task A_key_that_another_revokes_is_refused_and_what_streams_by_it_ends()
    {
        var made = await s.Post("/v1/keys", s.Key, """{"name":"reports","scopes":["read"]}""");
        var (key, id) = ((string)made.Json!["key"]!, (string)made.Json["id"]!);
        using var receipts = await RawEvents.Connect(s.Port, "/v1/receipts", key);
        await receipts.Next("opened");
        (await s.Get("/v1/users", key)).Status.ShouldBe(200);
        other.RevokeKey("main", id, Now).ShouldBeTrue();
        (await receipts.Next()).ShouldBeNull("the stream ends");
        (await s.Get("/v1/users", key)).Problem.ShouldBe("api-key-revoked");
        (await s.Get("/v1/users", s.Key)).Status.ShouldBe(200, "another key is still valid");
    }

    [Fact]
    public async Task A_signing_key_that_another_removes_ends_its_sessions_and_one_that_it_adds_counts()
    {
        var token = s.Token("mara");
        using var live = await s.WebSocket(token);
        await live.Next("current");
        const string secret = "a secret of the other process, long enough";
        other.AddSigningKey(new StoredSigningKey("main", "second", SigningKeyKind.Secret, null, Encoding.UTF8.GetBytes(secret), Now))
            .ShouldBeTrue();
        var newer = TestTokens.Make(secret, "teo", []);
        await Becomes("/v1/inbox", newer, 200, "the new key counts");
        using var second = await s.WebSocket(newer);
        await second.Next("current");
        other.RemoveSigningKey("main", "first").ShouldBeTrue();
        ((string)(await live.Next("ending"))["reason"]!).ShouldBe("signing-key-removed");
        (await s.Get("/v1/inbox", token)).Status.ShouldBe(401);
        await s.Send("user:teo", "still heard");
        await second.Next("notification");
    }

    [Fact]
    public async Task A_change_is_seen_though_the_word_of_it_was_lost_with_a_connection()
    {
        (await s.Get("/v1/settings", s.Key)).Json!["origins"].ShouldBeNull();
        // In one transaction: whoever listens hears nothing of it, as its connection is closed with the commit or before.
        Run("SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE query LIKE 'LISTEN%' OR query LIKE '%access_version%' AND " +
            "pid<>pg_backend_pid(); INSERT INTO space_settings (space, settings, changed) VALUES " +
            "('main', '{\"origins\":[\"https://crew.example\"]}', 1)");
        await Eventually.Holds(async () => (await s.Get("/v1/settings", s.Key)).Json!["origins"]?.AsArray().Count, count => count == 1,
            "the new origin is allowed");
    }

    [Fact]
    public async Task Versions_are_drawn_by_what_others_keep_in_memory_and_by_nothing_else()
    {
        long Head() => s.Count("SELECT version FROM access_head");
        long before = Head();
        (await s.Get("/v1/users", s.Key)).Status.ShouldBe(200);
        await s.Send("user:mara");
        other.TouchKey((string)(await s.Get("/v1/keys", s.Key)).Json!["keys"]![0]!["id"]!, Now);
        Head().ShouldBe(before, "uses and sends change nothing that is kept");
        (await s.Call(HttpMethod.Patch, "/v1/settings", s.Key, """{"origins":["https://crew.example"]}""")).Status.ShouldBe(200);
        Head().ShouldBe(before + 1);
        var decider = new StoredDecider("main", "planning", "https://planning.example/may", new byte[32], 1000, 10, 10, Now);
        var webhook = new StoredWebhook("main", "office", "https://office.example/", new byte[32], "", "", Now, 0, 0, null, null, 0, null);
        void Draws(string? kind, Action change)
        {
            before = Head();
            change();
            Head().ShouldBe(kind is null ? before : before + 1, kind);
            if (kind is not null) s.Count($"SELECT version FROM access_version WHERE space='main' AND kind='{kind}'").ShouldBe(before + 1);
        }
        Draws("deciders", () => other.SaveDecider(decider));
        Draws("deciders", () => other.SaveDecider(decider with { DenySeconds = 20 }));
        Draws("deciders", () => other.RemoveDecider("main", "planning"));
        Draws("webhooks", () => other.SaveWebhook(webhook));
        Draws(null, () => other.MoveWebhook(webhook with { Delivered = 10 }));
        Draws("webhooks", () => other.MoveWebhook(webhook with { Ended = Now }));
        Draws("key-sets", () => other.Tell("main", AccessKinds.KeySets));
    }

    [Fact]
    public async Task Receipts_go_to_a_webhook_that_another_made()
    {
        await using var receiver = new CalledBackend();
        var taken = new ConcurrentQueue<Called>();
        receiver.Answer = call =>
        {
            taken.Enqueue(call);
            return (204, "");
        };
        other.SaveWebhook(new StoredWebhook("main", "office", receiver.Url.ToString(), new byte[32], "", "", Now, 0, 0, null, null, 0,
            null));
        var token = s.Token("mara");
        var id = await s.Send("user:mara");
        (await s.Post("/v1/inbox/marks", token, $$$"""{"read":{"ids":["{{{id}}}"]}}""")).Status.ShouldBe(200);
        await Eventually.Holds(() => !taken.IsEmpty, "it is told");
    }

    [Fact]
    public async Task Spaces_and_types_come_and_go()
    {
        Run("INSERT INTO space (id, name, key) VALUES (77, 'yard', decode(repeat('ab', 32), 'hex'))");
        var keys = new ApiKeys(other, TimeProvider.System);
        var (_, key) = keys.Make("yard", "office", ["admin"]);
        await Becomes("/s/yard/v1/types", key, 200, "the space is there");
        (await s.Post("/s/yard/v1/notifications", key, """{"to":["user:mara"],"type":"t","title":"x"}""")).Status.ShouldBe(201);
        var document = """{"types":{"work.assigned":{"name":"Work assigned"}}}""";
        Run($"INSERT INTO catalogue (key, time, document) VALUES ((77::bigint<<44)+900, 1, '{document}'::text::bytea)");
        await Eventually.Holds(async () => (await s.Get("/s/yard/v1/types", key)).Text, text => text.Contains("work.assigned",
            StringComparison.Ordinal), "the catalogue is in force");
        using var live = await RawWebSocket.Connect(s.Port, "/s/harbour/v1/live",
            TestTokens.Make(s.Credentials["harbour"].TokenSigningSecret, "mara", []));
        await live.Next("current");
        Run("UPDATE space SET name=E'\\x01removed-'||id WHERE name='harbour'");
        ((string)(await live.Next("ending"))["reason"]!).ShouldBe("space-removed");
        (await s.Get("/s/harbour/v1/users", s.Credentials["harbour"].AdminKey)).Status.ShouldBe(404);
    }

    [Fact]
    public async Task A_stand_in_ends_with_an_operator_whom_another_removes()
    {
        async Task<(string, string)> SignUp(string name, string link) => ("Cookie", (await s.Post("/console/api/sign-up", null,
            $$"""{"name":"{{name}}","password":"a long password","link":"{{link}}"}""", Own)).Headers.GetValues("Set-Cookie").Single()
            .Split(';')[0]);
        await SignUp("ruth", s.Service.ConsoleLink!);
        var nils = await SignUp("nils", s.Service.NewConsoleLink());
        await s.Send("user:teo");
        var token = (string)(await s.Post("/console/api/stand-ins?space=main", null, """{"user":"teo"}""", Own, nils,
            ("Origin", s.Service.Url))).Json!["token"]!;
        using var live = await s.WebSocket(token);
        await live.Next("current");
        other.RemoveOperator("nils").ShouldBeTrue();
        ((string)(await live.Next("ending"))["reason"]!).ShouldBe("signed-out");
    }
}
