using System.Collections.Concurrent;
using System.Diagnostics;
using System.Text.Json.Nodes;
using Microsoft.Data.Sqlite;
using Rovett.Client;
using Rovett.Storage.Sqlite;
using Rovett.Testing;
using Shouldly;
using Xunit;

namespace Rovett.Faults;

/// <summary>A disk that fills up, turns read-only or breaks, a store that somebody else holds, a clock set back: what can't be
/// stored is refused and stays refused, what was answered stays, reading goes on, and everything goes on by itself afterwards.</summary>
public sealed class BadDiskTests : IAsyncLifetime
{
    readonly string folder = Directory.CreateTempSubdirectory("rovett-baddisk-").FullName;
    string Fault => Path.Combine(folder, "fault");
    string Clock => Path.Combine(folder, "clock");

    public ValueTask InitializeAsync() => ValueTask.CompletedTask;

    public ValueTask DisposeAsync()
    {
        Directory.Delete(folder, recursive: true);
        return ValueTask.CompletedTask;
    }

    /// <summary>Starts the service over the layer that makes its disk bad on demand.</summary>
    async Task<ServiceProcess> Start()
    {
        var layer = await Layer.Build(folder, "baddisk");
        return await ServiceProcess.Start(folder, environment: new Dictionary<string, string>
        {
            ["LD_PRELOAD"] = layer,
            ["BADDISK_FOLDER"] = Path.Combine(folder, "data"),
            ["BADDISK_FAULT"] = Fault,
            ["BADDISK_CLOCK"] = Clock,
        });
    }

    /// <summary>Sends without pause until told to stop: which titles were answered, which refused.</summary>
    sealed class Sender(RovettClient client)
    {
        public ConcurrentDictionary<string, string> Answered { get; } = [];
        public ConcurrentDictionary<string, string> Refused { get; } = [];

        public async Task Run(int number, CancellationToken stop)
        {
            for (int i = 0; !stop.IsCancellationRequested; i++)
            {
                var title = $"{number}-{i}";
                try
                {
                    var answer = await client.Send(
                        new JsonObject
                        {
                            ["to"] = new JsonArray("user:mara"),
                            ["type"] = "t",
                            ["title"] = title,
                            ["data"] = new JsonObject { ["pad"] = new string('x', 500) }
                        }, cancel: CancellationToken.None);
                    Answered[title] = (string)answer["id"]!;
                }
                catch (RovettRefusedException refused)
                {
                    refused.Status.ShouldBe(503, refused.Detail);
                    Refused[title] = refused.Slug;
                }
            }
        }
    }

    [Theory]
    [InlineData("full")]
    [InlineData("readonly")]
    [InlineData("io")]
    [InlineData("sync")]
    public async Task What_a_bad_disk_does_not_take_is_refused_and_everything_goes_on_afterwards(string fault)
    {
        string key, secret;
        var received = new ConcurrentQueue<(string Id, string Title)>();
        Sender sender;
        using (var service = await Start())
        {
            (key, secret) =
                ((string)service.Ready["credentials"]!["adminKey"]!, (string)service.Ready["credentials"]!["tokenSigningSecret"]!);
            using var backend = new RovettClient(service.Url, key);
            using var mara = new RovettClient(service.Url, TestTokens.Make(secret, "mara"));
            using var stop = new CancellationTokenSource();
            using var live = new LiveConnection(service.Url, _ => new ValueTask<string>(TestTokens.Make(secret, "mara")),
                new LiveOptions { Device = "desk", AckEvery = 5, AckWithin = TimeSpan.FromMilliseconds(50) });
            var receiving = Receive(live, received, stop.Token);
            sender = new Sender(backend);
            using var enough = new CancellationTokenSource();
            var senders = Task.WhenAll(Enumerable.Range(0, 4).Select(n => sender.Run(n, enough.Token)));
            await Eventually.Holds(() => sender.Answered.Count > 60 && !received.IsEmpty, "sends are under way");

            await File.WriteAllTextAsync(Fault, fault);
            await Eventually.Holds(() => sender.Refused.Count > 20, "sends are refused");
            sender.Refused.Values.Distinct().ShouldBe(["store-unavailable"]);
            // It is alive, says that it is not ready, lets people read, and takes no act that it can't keep.
            (await mara.Call(HttpMethod.Get, "/v1/inbox?limit=5"))!["items"]!.AsArray().Count.ShouldBe(5);
            (await Status(service.Url, "/healthz")).ShouldBe(200);
            if (fault != "full") // where what is small may still find a place
            {
                (await Status(service.Url, "/readyz")).ShouldBe(503);
                (await Should.ThrowAsync<RovettRefusedException>(
                    () => mara.Call(HttpMethod.Post, "/v1/inbox/marks", JsonNode.Parse("""{"read":{"all":true}}""")))).Status.ShouldBe(503);
            }

            File.Delete(Fault);
            int before = sender.Answered.Count;
            await Eventually.Holds(() => sender.Answered.Count > before + 60, "sends are taken again");
            (await Status(service.Url, "/readyz")).ShouldBe(200);
            await enough.CancelAsync();
            await senders;
            await Eventually.Holds(() => received.Select(r => r.Id).Distinct().Count() >= sender.Answered.Count,
                "the device has everything", 60);
            await CheckInbox(mara, sender);
            // What the device acknowledged while the disk was bad was not lost either.
            await Eventually.Holds(async () => (await Inbox(mara)).Count(i => i["state"]!["received"] is null), missing => missing == 0,
                "every acknowledgement is stored", 60);
            (await mara.Call(HttpMethod.Post, "/v1/inbox/marks",
                JsonNode.Parse("""{"read":{"all":true}}""")))!["totals"]!["unread"]!.GetValue<int>().ShouldBe(0);
            await stop.CancelAsync();
            await receiving;
            (await service.Terminate()).ShouldBe(0);
        }
        received.Select(r => r.Id).Distinct().Count().ShouldBe(received.Count, "each came once");
        received.Select(r => r.Title).Order().ShouldBe(sender.Answered.Keys.Order()); // what was refused reached nobody
        using var later = await Start();
        using var again = new RovettClient(later.Url, TestTokens.Make(secret, "mara"));
        await CheckInbox(again, sender);
        (await again.Call(HttpMethod.Get, "/v1/inbox/totals"))!["unread"]!.GetValue<int>().ShouldBe(0);
    }

    [Fact]
    public async Task A_store_that_somebody_else_holds_is_waited_for_and_then_refused()
    {
        using var service = await Start();
        using var backend = new RovettClient(service.Url, (string)service.Ready["credentials"]!["adminKey"]!);
        await Send(backend, "before");
        using (var other = new SqliteConnection($"Data Source={Path.Combine(folder, "data", SqliteFiles.HistoryName)};Pooling=False"))
        {
            other.Open();
            Execute(other, "BEGIN IMMEDIATE");
            var (briefly, whenHeld) = (Send(backend, "waits"), Stopwatch.StartNew());
            await Eventually.Holds(() => whenHeld.ElapsedMilliseconds > 300, "it is held for a while");
            briefly.IsCompleted.ShouldBeFalse();
            Execute(other, "COMMIT");
            await briefly;
            Execute(other, "BEGIN IMMEDIATE");
            (await Should.ThrowAsync<RovettRefusedException>(() => Send(backend, "refused"))).Slug.ShouldBe("store-unavailable");
            Execute(other, "ROLLBACK");
        }
        await Send(backend, "after");
        using var mara = new RovettClient(service.Url,
            TestTokens.Make((string)service.Ready["credentials"]!["tokenSigningSecret"]!, "mara"));
        (await Inbox(mara)).Select(i => (string)i["title"]!).ShouldBe(["after", "waits", "before"]);
    }

    [Fact]
    public async Task A_clock_set_back_disturbs_neither_order_nor_counts()
    {
        using var service = await Start();
        var secret = (string)service.Ready["credentials"]!["tokenSigningSecret"]!;
        using var backend = new RovettClient(service.Url, (string)service.Ready["credentials"]!["adminKey"]!);
        var token = TestTokens.Make(secret, "mara", lifetime: TimeSpan.FromDays(3),
            change: c => c["iat"] = DateTimeOffset.UtcNow.AddDays(-3).ToUnixTimeSeconds());
        using var mara = new RovettClient(service.Url, token);
        using var stop = new CancellationTokenSource();
        var received = new ConcurrentQueue<(string Id, string Title)>();
        using var live = new LiveConnection(service.Url, _ => new ValueTask<string>(token),
            new LiveOptions { Device = "desk", AckWithin = TimeSpan.FromMilliseconds(50) });
        var receiving = Receive(live, received, stop.Token);
        var sent = new List<string>();
        foreach (var seconds in new[] { "0", "-7200", "-90000", "3600", "-1" })
        {
            await File.WriteAllTextAsync(Clock, seconds);
            for (int i = 0; i < 5; i++)
            {
                sent.Add($"{seconds}: {i}");
                await Send(backend, sent[^1]);
            }
            (await mara.Call(HttpMethod.Post, "/v1/inbox/marks",
                new JsonObject
                {
                    ["read"] = new JsonObject
                    { ["ids"] = new JsonArray((await Inbox(mara))[0]["id"]!.DeepClone()) }
                }))!["totals"]!["unread"]!.GetValue<int>()
                .ShouldBe(sent.Count - sent.Count / 5);
        }
        await Eventually.Holds(() => received.Count == sent.Count, "everything came");
        received.Select(r => r.Title).ShouldBe(sent);
        var inbox = await Inbox(mara);
        inbox.Select(i => (string)i["title"]!).Reverse().ShouldBe(sent);
        var times = inbox.Select(i => (string)i["time"]!).ToList();
        times.ShouldBe(times.OrderDescending(StringComparer.Ordinal).ToList()); // they never go back
        times.Distinct().Count().ShouldBe(times.Count);
        await stop.CancelAsync();
        await receiving;
    }

    static Task<JsonNode> Send(RovettClient backend, string title) =>
        backend.Send(new JsonObject { ["to"] = new JsonArray("user:mara"), ["type"] = "t", ["title"] = title });

    static void Execute(SqliteConnection connection, string sql)
    {
        using var command = connection.CreateCommand();
        command.CommandText = sql;
        command.ExecuteNonQuery();
    }

    static async Task<int> Status(Uri url, string path)
    {
        using var http = new HttpClient();
        using var answer = await http.GetAsync(new Uri(url, path));
        return (int)answer.StatusCode;
    }

    static async Task Receive(LiveConnection live, ConcurrentQueue<(string, string)> into, CancellationToken stop)
    {
        try
        {
            await foreach (var message in live.Messages(stop))
            {
                if ((string)message["kind"]! == "notification") into.Enqueue(((string)message["id"]!, (string)message["title"]!));
            }
        }
        catch (OperationCanceledException)
        {
        }
    }

    static async Task<List<JsonNode>> Inbox(RovettClient user)
    {
        var items = new List<JsonNode>();
        for (string? path = "/v1/inbox?limit=100"; path is not null;)
        {
            var page = (await user.Call(HttpMethod.Get, path))!;
            items.AddRange(page["items"]!.AsArray().Select(i => i!));
            path = (string?)page["next"];
        }
        return items;
    }

    /// <summary>The inbox has what was answered, once each, and nothing that was refused.</summary>
    static async Task CheckInbox(RovettClient mara, Sender sender)
    {
        var items = await Inbox(mara);
        items.Select(i => (string)i["title"]!).Order().ShouldBe(sender.Answered.Keys.Order());
        items.Select(i => (string)i["id"]!).Order().ShouldBe(sender.Answered.Values.Order());
    }
}
