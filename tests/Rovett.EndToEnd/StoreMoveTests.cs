using System.Text;
using System.Text.Json.Nodes;
using Rovett.Client;
using Rovett.Storage.Homes;
using Rovett.Testing;
using Rovett.Testing.Servers;
using Shouldly;
using Xunit;

namespace Rovett.EndToEnd;

/// <summary><c>rovett store move</c>: from a data folder to a database and back.</summary>
public sealed class StoreMoveTests : IDisposable
{
    readonly string folder = Directory.CreateTempSubdirectory("rovett-move-").FullName;
    readonly PostgresServer server = new();

    public void Dispose()
    {
        server.Dispose();
        Directory.Delete(folder, recursive: true);
    }

    string Data => Path.Combine(folder, "data");

    static Task<JsonNode> Send(RovettClient client, string to, string title) => client.Call(HttpMethod.Post, "/v1/notifications",
        new JsonObject { ["to"] = new JsonArray(to), ["type"] = "berth.changed", ["title"] = title, ["subject"] = "berth/3" });

    /// <summary>All that users and backends can see, as text.</summary>
    static async Task<string> Seen(Uri url, string key, string secret)
    {
        var seen = new StringBuilder();
        using var backend = new RovettClient(url, key);
        foreach (var path in new[] { "/v1/roles/crew", "/v1/keys", "/v1/users?role=crew", "/v1/signing-keys", "/v1/set-aside", "/v1/settings",
            "/v1/spaces", "/v1/notifications?limit=100" })
        {
            seen.Append(path).Append(' ').AppendLine(Stable(await backend.Call(HttpMethod.Get, path)));
        }
        foreach (var user in new[] { "mara", "teo" })
        {
            using var inbox = new RovettClient(url, TestTokens.Make(secret, user, ["crew"]));
            seen.AppendLine(Stable(await inbox.Call(HttpMethod.Get, "/v1/inbox?limit=100")));
            seen.AppendLine(Stable(await inbox.Call(HttpMethod.Get, "/v1/choices")));
        }
        return seen.ToString();
    }

    /// <summary>Without what another life or another moment changes.</summary>
    static string Stable(JsonNode node)
    {
        switch (node)
        {
            case JsonObject map:
                foreach (var name in new[] { "cursor", "next", "lastUsed", "connected", "asOf", "issued", "sessions" }) map.Remove(name);
                foreach (var (_, value) in map) if (value is not null) Stable(value);
                break;
            case JsonArray list:
                list.RemoveAll(one => (string?)(one as JsonObject)?["name"] == "recovered admin key");
                foreach (var value in list) if (value is not null) Stable(value);
                break;
        }
        return node.ToJsonString();
    }

    async Task<(string Key, string Secret, string Cursor, string Seen)> Fill()
    {
        using var service = await ServiceProcess.Start(folder, ["--spaces", "harbour"]);
        var (key, secret) = ((string)service.Ready["credentials"]!["adminKey"]!, (string)service.Ready["credentials"]!["tokenSigningSecret"]!);
        using var backend = new RovettClient(service.Url, key);
        foreach (var user in new[] { "mara", "teo" })
        {
            using var client = new RovettClient(service.Url, TestTokens.Make(secret, user, ["crew"]));
            await client.Call(HttpMethod.Get, "/v1/inbox");
        }
        for (int i = 0; i < 120; i++) await Send(backend, i % 3 == 0 ? "user:mara" : "role:crew", $"number {i}, čáp & ❄");
        using var mara = new RovettClient(service.Url, TestTokens.Make(secret, "mara", ["crew"]));
        await mara.Call(HttpMethod.Post, "/v1/mutes", new JsonObject { ["type"] = "engine.check.due" });
        await mara.Call(HttpMethod.Post, "/v1/inbox/marks", new JsonObject { ["read"] = new JsonObject { ["subject"] = "berth/3" } });
        for (int i = 0; i < 5; i++) await Send(backend, "role:crew", $"after {i}");
        var cursor = (string)(await mara.Call(HttpMethod.Get, "/v1/inbox?limit=1"))["items"]![0]!["cursor"]!;
        var seen = await Seen(service.Url, key, secret);
        (await service.Terminate()).ShouldBe(0);
        return (key, secret, cursor, seen);
    }

    [Fact]
    public async Task Everything_is_there_after_a_move_to_a_database_and_after_the_way_back()
    {
        var (key, secret, cursor, seen) = await Fill();
        var database = server.NewDatabase();
        var there = await ServiceProcess.Cli(["store", "move", "--data", Data, "--to-database", database]);
        there.ExitCode.ShouldBe(0, there.Error);
        there.Out.ShouldContain("compared");

        (await ServiceProcess.Cli(["serve", "--data", Data, "--port", "0"])).Error.ShouldContain("was moved to");
        var environment = new Dictionary<string, string> { ["ROVETT_DATABASE"] = database };
        using (var service = await ServiceProcess.Start(folder, environment: environment))
        {
            (await Seen(service.Url, key, secret)).ShouldBe(seen);
            using var live = await RawWebSocket.Connect(service.Url.Port, $"/v1/live?after={cursor}", TestTokens.Make(secret, "mara", ["crew"]));
            ((string)(await live.Next("gap"))["reason"]!).ShouldBe("new-life");
            using var backend = new RovettClient(service.Url, key);
            await Send(backend, "role:crew", "on the database");
            seen = await Seen(service.Url, key, secret);
            (await service.Terminate()).ShouldBe(0);
        }

        var recovered = await ServiceProcess.Cli(["key", "recover", "--database", database, "--json"]);
        recovered.ExitCode.ShouldBe(0, recovered.Error);
        var extra = JsonNode.Parse(recovered.Out)!;

        var back = Path.Combine(folder, "back");
        var returned = await ServiceProcess.Cli(["store", "move", "--database", database, "--to-data", Path.Combine(back, "data")]);
        returned.ExitCode.ShouldBe(0, returned.Error);
        (await ServiceProcess.Cli(["store", "check", "--data", Path.Combine(back, "data")])).ExitCode.ShouldBe(0);
        using (var service = await ServiceProcess.Start(back))
        {
            using var again = new RovettClient(service.Url, (string)extra["key"]!);
            await again.Call(HttpMethod.Delete, $"/v1/keys/{extra["id"]}");
            (await Seen(service.Url, key, secret)).ShouldBe(seen);
            using var backend = new RovettClient(service.Url, key);
            await Send(backend, "user:mara", "home again");
            (await service.Terminate()).ShouldBe(0);
        }
        (await ServiceProcess.Cli(["serve", "--database", database, "--port", "0"])).Error.ShouldContain("was moved to");
    }

    [Fact]
    public async Task An_interrupted_move_is_not_served_and_goes_on_where_it_was()
    {
        var (key, secret, _, seen) = await Fill();
        var database = server.NewDatabase();
        for (int chunks = 1; ; chunks++)
        {
            using var stop = new CancellationTokenSource();
            using var from = new FolderSide(Data);
            using var to = new DatabaseSide(database);
            int heard = 0;
            long copied = 0;
            try
            {
                StoreMove.Run(from, to, p =>
                {
                    if (!p.Checking) copied = p.Done;
                    if (++heard == chunks * 3) stop.Cancel();
                }, stop.Token);
                break;
            }
            catch (OperationCanceledException)
            {
                chunks.ShouldBeLessThan(60);
            }
            if (chunks > 1) continue;
            from.Dispose();
            to.Dispose();
            (await ServiceProcess.Cli(["serve", "--database", database, "--port", "0"])).Error.ShouldContain("is not complete");
        }
        using var service = await ServiceProcess.Start(folder, environment: new Dictionary<string, string> { ["ROVETT_DATABASE"] = database });
        (await Seen(service.Url, key, secret)).ShouldBe(seen);
    }

    [Fact]
    public async Task A_target_that_has_something_and_what_is_not_clear_are_refused()
    {
        await Fill();
        var database = server.NewDatabase();
        using (var service = await ServiceProcess.Start(folder, environment: new Dictionary<string, string> { ["ROVETT_DATABASE"] = database }))
        {
            (await ServiceProcess.Cli(["store", "move", "--data", Data, "--to-database", database])).Error.ShouldContain("Another service");
            await service.Terminate();
        }
        (await ServiceProcess.Cli(["store", "move", "--data", Data, "--to-database", database])).Error.ShouldContain("has data already");
        var unclear = await ServiceProcess.Cli(["store", "move", "--data", Data, "--to-data", folder]);
        (unclear.ExitCode, unclear.Error.Contains("--to-database", StringComparison.Ordinal)).ShouldBe((2, true));
        (await ServiceProcess.Cli(["store", "move", "--data", Data, "--to-database", "Host=x"])).ExitCode.ShouldBe(2);
    }
}
