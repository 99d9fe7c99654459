using System.Collections.Concurrent;
using System.Text.Json.Nodes;
using Rovett.Client;
using Rovett.Storage.Sqlite;
using Rovett.Testing;
using Shouldly;
using Xunit;

namespace Rovett.Faults;

/// <summary>kill -9 at random instants under a stream of sends: nothing answered is lost, nothing is doubled, no position
/// is missing, and a device that resumes has everything once and in order.</summary>
public sealed class CrashTests
{
    const int Kills = 12;

    [Fact]
    public async Task Nothing_answered_is_lost_or_doubled_by_kills_and_a_device_goes_on_where_it_was()
    {
        var folder = Directory.CreateTempSubdirectory("rovett-crash-").FullName;
        int seed = Environment.TickCount;
        var random = new Random(seed);
        var answered = new ConcurrentDictionary<string, string>(); // idempotency key → id
        var received = new List<string>();
        string? cursor = null;
        try
        {
            string key = "", secret = "";
            for (int life = 0; life <= Kills; life++)
            {
                using var service = await ServiceProcess.Start(folder);
                if (life == 0) (key, secret) = ((string)service.Ready["credentials"]!["adminKey"]!, (string)service.Ready["credentials"]!["tokenSigningSecret"]!);
                using var client = new RovettClient(service.Url, key);
                using var stop = new CancellationTokenSource();
                var receiving = Receive(service.Url, secret, cursor, received, c => cursor = c, stop.Token);
                if (life == Kills)
                {
                    // The last life: everything not answered is sent again with its key, and makes one notification.
                    for (int sender = 0; sender < 4; sender++)
                    {
                        for (int past = 0; past < Kills; past++) await Send(client, $"{past}-{sender}-0", answered);
                    }
                    // In order: whoever has the last one has everything before it, answered or not.
                    await Send(client, "the last", answered);
                    await Eventually.Holds(() => Has(received, answered["the last"]), "the device has the last one", 30);
                    await stop.CancelAsync();
                    await receiving;
                    (await service.Terminate()).ShouldBe(0);
                    break;
                }
                int lifeNumber = life;
                var senders = Enumerable.Range(0, 4).Select(sender => Task.Run(async () =>
                {
                    try
                    {
                        for (int i = 0; ; i++) await Send(client, $"{lifeNumber}-{sender}-{i}", answered);
                    }
                    catch (HttpRequestException)
                    {
                        // killed: this one was not answered
                    }
                })).ToArray();
                int before = answered.Count;
                await Eventually.Holds(() => answered.Count > before + 30, "sends are under way");
                await Task.Delay(random.Next(5, 300)); // the instant of the kill is what is tested
                await service.Kill();
                await Task.WhenAll(senders);
                await stop.CancelAsync();
                await receiving;
            }
            var path = Path.Combine(folder, "data", SqliteFiles.HistoryName);
            using var store = SqliteFiles.OpenHistory(path);
            using var reader = SqliteFiles.ReadHistory(path);
            reader.Check().ShouldBeEmpty($"seed {seed}");
            var history = reader.History(store.FindSpace("main")!.Id);
            history.Select(e => e.Position).ShouldBe(Enumerable.Range(1, history.Count).Select(i => (long)i));
            var stored = history.Where(e => e.Id is not null).Select(e => e.Id!.Value.ToString()).ToList();
            answered.Values.ShouldAllBe(id => stored.Contains(id), $"seed {seed}");
            stored.Distinct().Count().ShouldBe(stored.Count);
            received.Distinct().ShouldBe(stored.Where(received.Contains)); // in the order stored
            stored.ShouldAllBe(id => received.Contains(id), $"seed {seed}");
            answered.Count.ShouldBeGreaterThan(Kills * 20);
            TestContext.Current.SendDiagnosticMessage($"{Kills} kills, {answered.Count} answered sends, {stored.Count} stored");
        }
        finally
        {
            Directory.Delete(folder, recursive: true);
        }
    }

    static bool Has(List<string> received, string id)
    {
        lock (received) return received.Contains(id);
    }

    static async Task Send(RovettClient client, string key, ConcurrentDictionary<string, string> answered)
    {
        var answer = await client.Send(new JsonObject { ["to"] = new JsonArray("role:engineer"), ["type"] = "t", ["title"] = key }, key);
        var id = (string)answer["id"]!;
        answered.GetOrAdd(key, id).ShouldBe(id); // the same key, the same notification, over any number of lives
    }

    static async Task Receive(Uri url, string secret, string? after, List<string> received, Action<string> moved, CancellationToken cancel)
    {
        using var live = new LiveConnection(url, _ => new ValueTask<string>(TestTokens.Make(secret, "mara", ["engineer"])), new LiveOptions { Device = "watch", After = after, AckWithin = TimeSpan.FromMilliseconds(100) });
        try
        {
            await foreach (var message in live.Messages(cancel))
            {
                if ((string)message["kind"]! == "notification")
                {
                    lock (received) received.Add((string)message["id"]!);
                }
                if (message["cursor"] is { } cursor) moved((string)cursor!);
            }
        }
        catch (OperationCanceledException)
        {
        }
    }
}
