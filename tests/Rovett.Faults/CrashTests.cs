using System.Collections.Concurrent;
using Rovett.Client;
using Rovett.Storage.Postgres;
using Rovett.Storage.Sqlite;
using Rovett.Testing;
using Rovett.Testing.Servers;
using Shouldly;
using Xunit;
using static Rovett.Faults.AnsweredSends;

namespace Rovett.Faults;

/// <summary>kill -9 at random instants under a stream of sends: nothing answered is lost, nothing is doubled, no position
/// is missing, a device that resumes has everything of its user once and in order, and nothing of anybody else.
/// <c>ROVETT_KILLS</c> and <c>ROVETT_KILL_SENDS</c> (answered sends in each life) make a long run of it.</summary>
public sealed class CrashTests
{
    static readonly int Kills = Number("ROVETT_KILLS", 12), SendsPerLife = Number("ROVETT_KILL_SENDS", 30),
        Senders = SendsPerLife > 100 ? 24 : 4;

    static int Number(string name, int otherwise) =>
        int.TryParse(Environment.GetEnvironmentVariable(name), out int number) ? number : otherwise;

    /// <summary>What is killed.</summary>
    public enum Victim
    {
        /// <summary>The service, on a data folder.</summary>
        Service,
        /// <summary>The service, on PostgreSQL.</summary>
        ServiceOnPostgres,
        /// <summary>The server of PostgreSQL, under the service.</summary>
        Postgres,
    }

    [Theory]
    [InlineData(Victim.Service)]
    [InlineData(Victim.ServiceOnPostgres)]
    [InlineData(Victim.Postgres)]
    public async Task Nothing_answered_is_lost_or_doubled_by_kills_and_a_device_goes_on_where_it_was(Victim victim)
    {
        using var server = victim == Victim.Service ? null : new PostgresServer();
        var database = server?.NewDatabase();
        string[] more = database is null ? [] : ["--database", database];
        var folder = Directory.CreateTempSubdirectory("rovett-crash-").FullName;
        int seed = Environment.TickCount;
        var random = new Random(seed);
        var answered = new ConcurrentDictionary<string, string>(); // idempotency key → id
        var mara = new Watch("mara", ["engineer"]);
        var teo = new Watch("teo", ["crew"]);
        int dead = 0;
        try
        {
            string key = "", secret = "";
            for (int life = 0; life <= Kills; life++)
            {
                using var service = await ServiceProcess.Start(folder, more);
                if (life == 0)
                {
                    (key, secret) =
                        ((string)service.Ready["credentials"]!["adminKey"]!, (string)service.Ready["credentials"]!["tokenSigningSecret"]!);
                }
                using var client = new RovettClient(service.Url, key);
                using var stop = new CancellationTokenSource();
                var receiving = Task.WhenAll(mara.Receive(service.Url, secret, stop.Token), teo.Receive(service.Url, secret, stop.Token));
                if (life == Kills)
                {
                    // The last life: everything not answered is sent again with its key, and makes one notification.
                    for (int sender = 0; sender < Senders; sender++)
                    {
                        for (int past = 0; past < Kills; past++) await Send(client, $"{past}-{sender}-0", answered);
                    }
                    // In order: whoever has the last one has everything before it, answered or not.
                    await Send(client, "the last", answered);
                    await Send(client, "the last for teo", answered);
                    await Eventually.Holds(() => mara.Has(answered["the last"]) && teo.Has(answered["the last for teo"]),
                        "the devices have the last one", 60);
                    await stop.CancelAsync();
                    await receiving;
                    (await service.Terminate()).ShouldBe(0);
                    break;
                }
                int lifeNumber = life;
                var senders = Enumerable.Range(0, Senders).Select(sender => Task.Run(async () =>
                {
                    try
                    {
                        for (int i = 0; !stop.IsCancellationRequested; i++)
                        {
                            await Send(client, $"{lifeNumber}-{sender}-{i}{(i % 10 == 9 ? " for teo" : "")}", answered);
                        }
                    }
                    catch (Exception error) when (error is HttpRequestException
                        || (victim == Victim.Postgres && error is RovettRefusedException { Status: 503 }))
                    {
                        // killed: this one was not answered
                    }
                })).ToArray();
                int before = answered.Count;
                await Eventually.Holds(() => answered.Count > before + SendsPerLife, "sends are under way", 60);
                await Task.Delay(random.Next(5, 300)); // the instant of the kill is what is tested
                if (victim == Victim.Postgres)
                {
                    server!.Crash();
                    await Task.WhenAll(senders.Select(s => Task.WhenAny(s, Task.Delay(random.Next(5, 300)))));
                    server.Start();
                    // The same service goes on by itself.
                    await Eventually.Holds(async () => await Takes(client, $"{lifeNumber} goes on", answered), t => t, "sends are taken", 60);
                    await stop.CancelAsync();
                    (await service.Terminate()).ShouldBe(0);
                }
                else await service.Kill();
                dead++;
                await Task.WhenAll(senders);
                await stop.CancelAsync();
                await receiving;
            }
            var path = Path.Combine(folder, "data", SqliteFiles.HistoryName);
            using var store = database is null ? SqliteFiles.OpenHistory(path) : PostgresHistory.Open(database);
            using var reader = database is null ? SqliteFiles.ReadHistory(path) : PostgresHistory.Read(database);
            reader.Check().ShouldBeEmpty($"seed {seed}");
            var history = reader.History(store.FindSpace("main")!.Id);
            history.Select(e => e.Position).ShouldBe(Enumerable.Range(1, history.Count).Select(i => (long)i));
            var stored = history.Where(e => e.Id is not null).Select(e => e.Id!.Value.ToString()).ToHashSet();
            stored.Count.ShouldBe(history.Count(e => e.Id is not null));
            answered.Values.Where(id => !stored.Contains(id)).ShouldBeEmpty($"seed {seed}");
            foreach (var watch in new[] { mara, teo })
            {
                var meant = history.Where(e => e.Id is not null && e.Addressing == "+" + watch.Address).Select(e => e.Id!.Value.ToString())
                    .ToList();
                meant.ShouldNotBeEmpty();
                watch.Received.Distinct().SequenceEqual(meant).ShouldBeTrue($"seed {seed}: {watch.User} received " +
                    $"{watch.Received.Distinct().Count()} of {meant.Count}, each once at the first time and in the order stored");
                watch.OfOthers.ShouldBe(0, $"seed {seed}: {watch.User} got something of another's");
            }
            answered.Count.ShouldBeGreaterThan(Kills * 20);
            TestContext.Current.SendDiagnosticMessage($"{dead} kills, {answered.Count} answered sends, {stored.Count} stored, " +
                $"{mara.Received.Count + teo.Received.Count} received, " +
                $"{mara.Received.Count + teo.Received.Count - mara.Received.Distinct().Count() - teo.Received.Distinct().Count()} of " +
                $"them repeats");
            if (Kills > 12)
            {
                File.AppendAllText(Path.Combine(Path.GetTempPath(), "rovett-kills.txt"),
                    $"{victim}: {dead} kills, {answered.Count} answered sends, {stored.Count} stored, seed {seed}\n");
            }
        }
        finally
        {
            Directory.Delete(folder, recursive: true);
        }
    }

    static async Task<bool> Takes(RovettClient client, string key, ConcurrentDictionary<string, string> answered)
    {
        try
        {
            await Send(client, key, answered);
            return true;
        }
        catch (RovettRefusedException error) when (error.Status == 503)
        {
            return false;
        }
    }
}
