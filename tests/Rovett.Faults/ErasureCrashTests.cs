using System.Text.Json.Nodes;
using Microsoft.Data.Sqlite;
using Rovett.Client;
using Rovett.Storage.Sqlite;
using Rovett.Testing;
using Shouldly;
using Xunit;

namespace Rovett.Faults;

/// <summary>kill -9 at random steps of erasures: each is finished by a later life without being asked again, nothing of
/// the person is left in any file, and a
/// credential of before lets nobody in. <c>ROVETT_ERASE_KILLS</c> makes a long run of it.</summary>
public sealed class ErasureCrashTests
{
    static readonly int Kills = int.TryParse(Environment.GetEnvironmentVariable("ROVETT_ERASE_KILLS"), out int number) ? number : 6;
    const int Own = 400, Others = 200;

    static long Erasures(string data)
    {
        using var connection =
            new SqliteConnection($"Data Source={Path.Combine(data, SqliteFiles.HistoryName)};Mode=ReadOnly;Pooling=False");
        connection.Open();
        using var command = connection.CreateCommand();
        command.CommandText = "SELECT count(*) FROM erasure";
        return (long)command.ExecuteScalar()!;
    }

    static bool Holds(string data, string word) =>
        Directory.EnumerateFiles(data, "*.db*").Any(file => LiveFile.Text(file).Contains(word, StringComparison.Ordinal));

    [Fact]
    public async Task An_erasure_is_finished_whenever_it_is_killed()
    {
        var folder = Directory.CreateTempSubdirectory("rovett-erase-").FullName;
        var data = Path.Combine(folder, "data");
        int seed = Environment.TickCount;
        var random = new Random(seed);
        int cutShort = 0;
        try
        {
            string key = "", secret = "";
            for (int round = 0; round < Kills; round++)
            {
                var canary = $"canary{round}x{Guid.NewGuid():N}";
                var service = await ServiceProcess.Start(folder);
                if (round == 0)
                {
                    (key, secret) =
                        ((string)service.Ready["credentials"]!["adminKey"]!, (string)service.Ready["credentials"]!["tokenSigningSecret"]!);
                }
                var token = TestTokens.Make(secret, canary, ["engineer"]);
                using (var client = new RovettClient(service.Url, key))
                {
                    using (var person = new RovettClient(service.Url, token)) await person.Call(HttpMethod.Get, "/v1/inbox");
                    JsonObject Notification(string[] to, string[] except, int i) =>
                        new()
                        {
                            ["to"] = new JsonArray([.. to.Select(t => (JsonNode)t)]),
                            ["except"] = new JsonArray([.. except.Select(t => (JsonNode)t)]),
                            ["type"] = "letter",
                            ["title"] = $"{i}",
                            ["body"] = to[0].StartsWith("user:canary", StringComparison.Ordinal) && to.Length == 1 ? canary : "for all"
                        };
                    var sends = Enumerable.Range(0, Own).Select(i => Notification(["user:" + canary], [], i))
                        .Concat(Enumerable.Range(0, Others)
                        .Select(i => i % 2 == 0 ? Notification(["role:engineer"], ["user:" + canary], i)
                        : Notification(["user:mara", "user:" + canary], [], i)));
                    await Parallel.ForEachAsync(sends, new ParallelOptions { MaxDegreeOfParallelism = 16 },
                        async (one, cancel) => await client.Send(one, cancel: cancel));
                    Holds(data, canary).ShouldBeTrue("it is found as long as it is there");
                    var erasing = client.Call(HttpMethod.Delete, "/v1/users?id=" + canary);
                    await Eventually.Holds(() => erasing.IsCompleted || Erasures(data) == 1, "it began");
                    await Task.Delay(random.Next(0, 25)); // the instant of the kill is what is tested
                    await service.Kill();
                    try
                    {
                        await erasing;
                    }
                    catch (HttpRequestException)
                    {
                        cutShort++;
                    }
                }
                service.Dispose();
                // Killed once more while the next life goes on with it; the one after that has time.
                using (var second = await ServiceProcess.Start(folder))
                {
                    await Task.Delay(random.Next(0, 40));
                    await second.Kill();
                }
                using var third = await ServiceProcess.Start(folder);
                await Eventually.Holds(() => Erasures(data) == 0, $"seed {seed}: the erasure of round {round} comes to its end", 60);
                using (var person = new RovettClient(third.Url, token))
                    (await Should.ThrowAsync<RovettRefusedException>(() => person.Call(HttpMethod.Get, "/v1/inbox"))).Status.ShouldBe(401,
                        $"seed {seed}");
                await Eventually.Holds(() => !Holds(data, canary), $"seed {seed}: nothing of round {round} is left in a file", 60);
                (await third.Terminate()).ShouldBe(0);
                Holds(data, canary).ShouldBeFalse($"seed {seed}");
                using var reader = SqliteFiles.ReadHistory(Path.Combine(data, SqliteFiles.HistoryName));
                reader.Check().ShouldBeEmpty($"seed {seed}");
            }
            TestContext.Current.SendDiagnosticMessage(
                $"{Kills} erasures, {cutShort} of them cut short by a kill, each killed once more in the life after (seed {seed})");
        }
        finally
        {
            Directory.Delete(folder, recursive: true);
        }
    }
}
