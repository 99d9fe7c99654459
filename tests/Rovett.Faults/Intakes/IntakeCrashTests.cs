using System.Globalization;
using System.Text;
using System.Text.Json.Nodes;
using Rovett.Client;
using Rovett.Testing;
using Shouldly;
using Xunit;

namespace Rovett.Faults.Intakes;

/// <summary>The service, the source and the connection between them are killed and cut at random instants while events come: the
/// notifications are those of an undisturbed run, in order per key. <c>ROVETT_INTAKE_EVENTS</c> and <c>ROVETT_INTAKE_CUTS</c> make a long
/// run of it.</summary>
public sealed class IntakeCrashTests
{
    const int Keys = 10;
    const string Rules = """
        rules:
          - { name: tell, event: crew.changed, to: ["user:{{ data.who }}"], notification: { title: "{{ data.n }}" } }
        """;

    static readonly int Events = Number("ROVETT_INTAKE_EVENTS", 600), Cuts = Number("ROVETT_INTAKE_CUTS", 5);

    static int Number(string name, int otherwise) =>
        int.TryParse(Environment.GetEnvironmentVariable(name), out int number) ? number : otherwise;

    [Fact]
    public Task Nothing_is_lost_or_doubled_out_of_an_outbox() => Disturbed(() => new OutboxGround());

    [Fact]
    public Task Nothing_is_lost_or_doubled_out_of_a_queue() => Disturbed(() => new RabbitMqGround());

    [Fact]
    public Task Nothing_is_lost_or_doubled_out_of_a_stream() => Disturbed(() => new RedisGround());

    [Fact]
    public Task Nothing_is_lost_or_doubled_out_of_partitions() => Disturbed(() => new KafkaGround());

    [Fact]
    public Task Nothing_is_lost_or_doubled_of_lines_that_are_sent_until_they_are_answered() => Disturbed(() => new TcpGround());

    [Fact]
    public Task Nothing_is_lost_or_doubled_of_lines_over_a_unix_socket() => Disturbed(() => new UnixGround());

    static async Task Disturbed(Func<SourceGround> open)
    {
        var folder = Directory.CreateTempSubdirectory("rovett-intake-").FullName;
        int seed = Environment.TickCount;
        var random = new Random(seed);
        await using var source = open();
        var file = Path.Combine(folder, "intakes.yaml");
        ServiceProcess? service = null;
        try
        {
            // The rules are there before the first event is.
            service = await ServiceProcess.Start(folder);
            var (key, secret) = ((string)service.Ready["credentials"]!["adminKey"]!,
                (string)service.Ready["credentials"]!["tokenSigningSecret"]!);
            using (var loading = new RovettClient(service.Url, key))
            {
                await loading.Call(HttpMethod.Put, "/v1/rules", () => new StringContent(Rules, Encoding.UTF8, "application/yaml"));
            }
            (await service.Terminate()).ShouldBe(0);
            service = null;
            if (source is TcpGround tcp) tcp.Key = key;
            await File.WriteAllTextAsync(file, $"intakes: [{{ name: crew, batch: 20, {source.Settings} }}]");
            service = await Start(folder, file);

            int published = 0;
            var publishing = Task.Run(async () =>
            {
                for (int n = 0; n < Events; n++, Volatile.Write(ref published, n)) await Surely(source, n);
            });
            for (int cut = 0; cut < Cuts; cut++)
            {
                int from = Events * (cut + 1) / (Cuts + 1);
                await Eventually.Holds(() => Volatile.Read(ref published) >= from || publishing.IsCompleted,
                    $"events are published (seed {seed}, cut {cut}, {published} of {Events})", 120);
                await Task.Delay(random.Next(0, 60)); // the instant is what is tested
                switch (cut % 5)
                {
                    case 0 or 3:
                        await service.Kill();
                        service = null;
                        service = await Start(folder, file);
                        break;
                    case 2: await source.Restart(); break;
                    default: await source.Cut(); break;
                }
            }
            await publishing;
            using var client = new RovettClient(service.Url, key);
            try
            {
                await Check(service.Url, secret, seed);
            }
            catch (TimeoutException late)
            {
                var intake = await client.Call(HttpMethod.Get, "/v1/intakes/crew");
                throw new TimeoutException($"The intake: {intake.ToJsonString()} {late.Message}", late);
            }
            ((int)(await client.Call(HttpMethod.Get, "/v1/set-aside"))["count"]!).ShouldBe(0, $"seed {seed}");
            (await service.Terminate()).ShouldBe(0);
        }
        finally
        {
            service?.Dispose();
            Directory.Delete(folder, recursive: true);
        }
    }

    static Task<ServiceProcess> Start(string folder, string file) => ServiceProcess.Start(folder, ["--intakes", file]);

    /// <summary>Publishes until the source is sure to have it; it may then have it twice.</summary>
    static async Task Surely(SourceGround source, int n)
    {
        var key = string.Create(CultureInfo.InvariantCulture, $"k{n % Keys}");
        var json = new JsonObject
        {
            ["specversion"] = "1.0",
            ["id"] = n.ToString(CultureInfo.InvariantCulture),
            ["source"] = "/crew",
            ["subject"] = key,
            ["type"] = "crew.changed",
            ["data"] = new JsonObject { ["n"] = n, ["who"] = key },
        }.ToJsonString();
        for (int attempt = 0; ; attempt++)
        {
            try
            {
                await source.Publish(json, key);
                return;
            }
            catch (Exception error) when (attempt < 600 && error is not ShouldAssertException)
            {
                await Task.Delay(100);
            }
        }
    }

    static async Task Check(Uri url, string secret, int seed)
    {
        for (int k = 0; k < Keys; k++)
        {
            var expected = Enumerable.Range(0, Events).Where(n => n % Keys == k).ToList();
            using var client = new RovettClient(url, TestTokens.Make(secret, $"k{k}", []));
            List<int> told = [];
            await Eventually.Holds(async () =>
            {
                told = [.. (await client.Titles()).Select(t => int.Parse(t, CultureInfo.InvariantCulture))];
                return string.Join(' ', expected.Except(told));
            }, missing => missing.Length == 0, $"k{k} is told all {expected.Count} (seed {seed}); what is missing", 120);
            told.ShouldBe(expected, $"seed {seed}: k{k}");
        }
    }
}
