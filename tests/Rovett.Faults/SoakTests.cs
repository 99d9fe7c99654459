using System.Diagnostics;
using System.Globalization;
using System.Text.Json.Nodes;
using Rovett.Client;
using Rovett.Testing;
using Rovett.Testing.Servers;
using Shouldly;
using Xunit;

namespace Rovett.Faults;

/// <summary>Many days' coming and going in a short time: people connect, receive, read, take, leave; notifications expire, replace each
/// other, are withdrawn and trimmed; roles change. What the process holds must not grow. <c>ROVETT_SOAK_MINUTES</c>
/// makes a long run of it.</summary>
public sealed class SoakTests
{
    const int People = 60;
    static readonly TimeSpan Lasts = TimeSpan.FromMinutes(
        double.TryParse(Environment.GetEnvironmentVariable("ROVETT_SOAK_MINUTES"), CultureInfo.InvariantCulture, out double minutes)
        ? minutes
        : 0.25);

    readonly record struct Sample(long Live, long Resident, int Handles, int Threads, long Stored);

    int sent, received, visits;

    [Fact]
    public async Task Memory_handles_and_threads_stay_flat_over_many_visits()
    {
        var folder = Directory.CreateTempSubdirectory("rovett-soak-").FullName;
        try
        {
            using var service = await ServiceProcess.Start(folder,
                environment: new Dictionary<string, string>
                { ["ROVETT_KEEP_COUNT"] = "5000", ["ROVETT_RECENT_MEBIBYTES"] = "4", ["ROVETT_FULL_RECEIPTS"] = "job.*" });
            using var backend = new RovettClient(service.Url, (string)service.Ready["credentials"]!["adminKey"]!);
            var secret = (string)service.Ready["credentials"]!["tokenSigningSecret"]!;
            using var stop = new CancellationTokenSource();
            int before = (await Take(service, folder, backend)).Handles;
            var work = Enumerable.Range(0, People).Select(i => Person(service.Url, secret, i, stop.Token))
                .Append(Backend(backend, stop.Token)).ToList();
            var clock = Stopwatch.StartNew();
            var samples = await Samples(work, clock, () => Take(service, folder, backend));
            await stop.CancelAsync();
            await Task.WhenAll(work);
            await Eventually.Holds(async () => (int)(await backend.Call(HttpMethod.Get, "/v1/status"))["sessions"]!, n => n == 0,
                "nobody is connected");
            received.ShouldBeGreaterThan(100);
            var said = $"{clock.Elapsed.TotalMinutes:F1} min: {visits} visits, {sent} sends, {received} received; live MB, resident MB, " +
                $"handles, threads, stored MB at the ends of quarters: "
                + string.Join("; ", Enumerable.Range(1, 4).Select(q => samples[(samples.Count * q / 4) - 1])
                .Select(s => $"{s.Live >> 20} {s.Resident >> 20} {s.Handles} {s.Threads} {s.Stored >> 20}"));
            TestContext.Current.SendDiagnosticMessage(said);
            // Connections that were closed are let go; what is still listening or pooled is few.
            await Eventually.Holds(async () => (await Take(service, folder, backend)).Handles, n => n < before + 40,
                $"handles are let go, there were {before}");
            Median(samples, s => s.Threads, 3).ShouldBeLessThan(80);
            if (Lasts < TimeSpan.FromMinutes(5)) return;
            File.AppendAllText(Path.Combine(Path.GetTempPath(), "rovett-soak.txt"), said + "\n");
            // Of what is resident a part is room that the collector keeps; what is alive must not grow.
            Median(samples, s => s.Live, 3).ShouldBeLessThan(Median(samples, s => s.Live, 1) * 1.2, said);
            Median(samples, s => s.Resident, 3).ShouldBeLessThan(Median(samples, s => s.Resident, 1) * 1.5, said);
            Median(samples, s => s.Stored, 3).ShouldBeLessThan(Median(samples, s => s.Stored, 1) * 1.5, said);
        }
        finally
        {
            Directory.Delete(folder, recursive: true);
        }
    }

    /// <summary>The same through three nodes, two of which only hold sessions.</summary>
    [Fact]
    public async Task Totals_of_held_sessions_do_not_drift_and_nodes_stay_flat()
    {
        using var server = new PostgresServer();
        using var nodes = new NodeProcesses(3, server.NewDatabase())
        { Environment = { ["ROVETT_KEEP_COUNT"] = "5000", ["ROVETT_RECENT_MEBIBYTES"] = "4", ["ROVETT_FULL_RECEIPTS"] = "job.*" } };
        await nodes.Begin();
        await nodes.Owner();
        using var backend = new RovettClient(nodes.Front.Url, nodes.Key);
        using var stop = new CancellationTokenSource();
        var work = Enumerable.Range(0, People).Select(i => Person(nodes.Front.Url, nodes.SigningSecret, i, stop.Token))
            .Append(Backend(backend, stop.Token)).ToList();
        var clock = Stopwatch.StartNew();
        var samples = await Samples(work, clock, () =>
        {
            nodes.Printed.ShouldNotContain("it was set right", Case.Sensitive, "totals have drifted");
            var all = Enumerable.Range(0, nodes.Count).Select(i => Take(nodes[i])).ToList();
            return Task.FromResult(new Sample(0, all.Sum(s => s.Resident), all.Sum(s => s.Handles), all.Max(s => s.Threads), 0));
        });
        await stop.CancelAsync();
        await Task.WhenAll(work);
        nodes.Printed.ShouldNotContain("it was set right", Case.Sensitive, "totals have drifted");
        received.ShouldBeGreaterThan(100);
        var said = $"{clock.Elapsed.TotalMinutes:F1} min with three nodes: {visits} visits, {sent} sends, {received} received; resident " +
            "MB of all, handles of all, threads of one, at the ends of quarters: " + string.Join("; ", Enumerable.Range(1, 4)
            .Select(q => samples[(samples.Count * q / 4) - 1]).Select(s => $"{s.Resident >> 20} {s.Handles} {s.Threads}"));
        TestContext.Current.SendDiagnosticMessage(said);
        Median(samples, s => s.Threads, 3).ShouldBeLessThan(100, said);
        if (Lasts < TimeSpan.FromMinutes(5)) return;
        File.AppendAllText(Path.Combine(Path.GetTempPath(), "rovett-soak.txt"), said + "\n");
        Median(samples, s => s.Resident, 3).ShouldBeLessThan(Median(samples, s => s.Resident, 1) * 1.5, said);
        Median(samples, s => s.Handles, 3).ShouldBeLessThan(Median(samples, s => s.Handles, 1) * 1.5, said);
    }

    static async Task<List<Sample>> Samples(List<Task> work, Stopwatch clock, Func<Task<Sample>> take)
    {
        var samples = new List<Sample>();
        while (clock.Elapsed < Lasts)
        {
            await Task.WhenAny(Task.WhenAll(work), Task.Delay(TimeSpan.FromSeconds(1))); // a failure ends it at once
            if (work.Find(t => t.IsFaulted) is { } failed) await failed;
            samples.Add(await take());
        }
        return samples;
    }

    static double Median(List<Sample> samples, Func<Sample, double> of, int quarter) =>
        samples.Skip(samples.Count * quarter / 4).Take(Math.Max(1, samples.Count / 4)).Select(of).Order()
        .ElementAt(Math.Max(0, (samples.Count / 8) - 1));

    static async Task<Sample> Take(ServiceProcess service, string folder, RovettClient backend)
    {
        var live = (long)(await backend.Call(HttpMethod.Get, "/v1/status"))["liveBytes"]!;
        return Take(service) with { Live = live, Stored = new DirectoryInfo(Path.Combine(folder, "data")).GetFiles().Sum(f => f.Length) };
    }

    static Sample Take(ServiceProcess service)
    {
        var status = File.ReadLines($"/proc/{service.Id}/status").Select(line => line.Split(':', 2))
            .ToDictionary(p => p[0], p => p[1].Trim());
        return new Sample(0, long.Parse(status["VmRSS"].Split(' ')[0], CultureInfo.InvariantCulture) << 10,
            Directory.GetFileSystemEntries($"/proc/{service.Id}/fd").Length, int.Parse(status["Threads"], CultureInfo.InvariantCulture), 0);
    }

    /// <summary>Comes, takes what there is, reads some of it, takes a job over, and leaves, again and again.</summary>
    async Task Person(Uri url, string secret, int number, CancellationToken stop)
    {
        var random = new Random(number);
        string? cursor = null;
        for (int visit = 0; !stop.IsCancellationRequested; visit++)
        {
            var token = TestTokens.Make(secret, $"person{number}", visit % 7 == 0 ? ["crew"] : ["crew", "engineer"]);
            using var leave = CancellationTokenSource.CreateLinkedTokenSource(stop);
            using var live = new LiveConnection(url, _ => new ValueTask<string>(token),
                new LiveOptions
                {
                    Device = "phone",
                    After = cursor,
                    Transport = random.Next(2) == 0 ? LiveTransport.WebSocket : LiveTransport.Sse,
                    AckWithin = TimeSpan.FromMilliseconds(50)
                });
            int stays = random.Next(2, 12);
            try
            {
                await foreach (var message in live.Messages(leave.Token))
                {
                    if (message["cursor"] is { } moved) cursor = (string)moved!;
                    if ((string)message["kind"]! != "notification") continue;
                    Interlocked.Increment(ref received);
                    if (message["takeable"] is not null && random.Next(4) == 0)
                    {
                        await live.Send(new JsonObject { ["kind"] = "take", ["id"] = (string)message["id"]!, ["requestId"] = "t" },
                            leave.Token);
                    }
                    else if (random.Next(3) == 0)
                    {
                        await live.Send(new JsonObject
                        { ["kind"] = "markRead", ["ids"] = new JsonArray((string)message["id"]!), ["requestId"] = "r" }, leave.Token);
                    }
                    if (--stays == 0) break;
                }
            }
            catch (OperationCanceledException) when (leave.IsCancellationRequested)
            {
            }
            Interlocked.Increment(ref visits);
        }
    }

    async Task Backend(RovettClient backend, CancellationToken stop)
    {
        var ids = new Queue<string>();
        for (int i = 0; !stop.IsCancellationRequested; i++)
        {
            var notification = new JsonObject
            {
                ["to"] = new JsonArray((i % 4) switch { 0 => "role:engineer", 1 => "role:crew", _ => $"user:person{i % People}" }),
                ["type"] = i % 4 == 0 ? "job.open" : "t",
                ["title"] = $"number {i}"
            };
            if (i % 4 == 0) notification["takeable"] = new JsonObject { ["for"] = "PT2S" };
            if (i % 5 == 0) notification["ttl"] = 3;
            if (i % 8 == 1) notification["slot"] = "weather";
            ids.Enqueue((string)(await backend.Send(notification, cancel: CancellationToken.None))["id"]!);
            Interlocked.Increment(ref sent);
            if (ids.Count > 50)
            {
                var id = ids.Dequeue();
                if (i % 6 == 0) await backend.Call(HttpMethod.Delete, $"/v1/notifications/{id}", cancel: CancellationToken.None);
            }
            if (i % 40 == 0)
            {
                await backend.Call(HttpMethod.Put, $"/v1/users/person{i % People}",
                    new JsonObject { ["roles"] = i % 80 == 0 ? new JsonArray("duty-manager") : new JsonArray() }, CancellationToken.None);
            }
        }
    }
}
