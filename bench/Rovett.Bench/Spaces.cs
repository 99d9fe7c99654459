using System.Diagnostics;
using System.Net.Http.Headers;
using System.Text;
using System.Text.Json.Nodes;
using Rovett.Testing;
using Rovett.Testing.Servers;

namespace Rovett.Bench;

/// <summary>Many spaces in one service: what they cost at the start and while nothing happens, how all of them are served at once, and
/// what one space that asks much does to another. In a data folder and on PostgreSQL.</summary>
static class Spaces
{
    const int Many = 1000, Starts = 5, PeopleEach = 1000, Limited = 200;
    static readonly TimeSpan Idle = TimeSpan.FromSeconds(20), Length = TimeSpan.FromSeconds(6);

    public static async Task Run(string? home, string? parts)
    {
        foreach (bool isDatabase in home is null ? [false, true] : new[] { home == "postgres" })
        {
            using var server = isDatabase ? PostgresServer.Lasting(TimeSpan.FromMilliseconds(2)) : null;
            var place = isDatabase ? "PostgreSQL, commits of 2 ms" : "data folder";
            var one = await Place(server, 1);
            var many = await Place(server, Many);
            var two = await Place(server, 2);
            try
            {
                if (parts is null) await Idling(place, one, many);
                if (parts is null) await Active(place, many);
                if (parts is null or "hostile") await Hostile(place, many, two);
                if (parts is null or "people") await People(place, many);
            }
            finally
            {
                Directory.Delete(one.Folder, recursive: true);
                Directory.Delete(many.Folder, recursive: true);
                Directory.Delete(two.Folder, recursive: true);
            }
        }
    }

    sealed record Home(string Folder, Dictionary<string, string> Environment, List<(string Space, string Key)> Keys);

    static async Task<Home> Place(PostgresServer? server, int spaces)
    {
        var folder = Directory.CreateTempSubdirectory("rovett-spaces-").FullName;
        var environment = new Dictionary<string, string>
        {
            ["ROVETT_SPACES"] = string.Join(',', Enumerable.Range(1, spaces - 1).Select(n => $"yard-{n}")),
        };
        if (spaces == 1) environment.Remove("ROVETT_SPACES");
        if (server is not null) environment["ROVETT_DATABASE"] = server.NewDatabase();
        using var service = await ServiceProcess.Start(folder, environment: environment);
        var keys = new List<(string, string)> { ("main", (string)service.Ready["credentials"]!["adminKey"]!) };
        foreach (var (space, made) in service.Ready["spaces"] as JsonObject ?? []) keys.Add((space, (string)made!["adminKey"]!));
        await service.Terminate();
        return new Home(folder, environment, keys);
    }

    static double Resident(ServiceProcess service)
    {
        using var process = Process.GetProcessById(service.Id);
        return process.WorkingSet64 / 1048576.0;
    }

    static async Task Idling(string place, Home one, Home many)
    {
        var (starts, memory, cpu) = (new Dictionary<Home, List<double>>(), new Dictionary<Home, double>(), new Dictionary<Home, double>());
        for (int i = 0; i < Starts; i++)
        {
            foreach (var home in new[] { one, many })
            {
                long began = Stopwatch.GetTimestamp();
                using var service = await ServiceProcess.Start(home.Folder, environment: home.Environment);
                (starts.TryGetValue(home, out var list) ? list : starts[home] = []).Add(Stopwatch.GetElapsedTime(began).TotalSeconds);
                if (i == Starts - 1)
                {
                    await Task.Delay(TimeSpan.FromSeconds(3));
                    double before = service.Cpu.TotalSeconds;
                    await Task.Delay(Idle);
                    (cpu[home], memory[home]) = ((service.Cpu.TotalSeconds - before) / Idle.TotalSeconds, Resident(service));
                }
                await service.Terminate();
            }
        }
        double Median(Home home) => starts[home].Order().ElementAt(Starts / 2);
        Say($"{place}: start {Median(one):F2} s with one space, {Median(many):F2} s with {Many} ({Median(many) / Median(one):F2} x)");
        Say($"{place}: idle {cpu[one]:P2} and {cpu[many]:P2} of a core; resident {memory[one]:F0} and {memory[many]:F0} MiB " +
            $"({(memory[many] - memory[one]) * 1024 / Many:F1} KiB a space)");
    }

    static HttpClient Client(ServiceProcess service, string key)
    {
        var http = new HttpClient { BaseAddress = service.Url };
        http.DefaultRequestHeaders.Authorization = new AuthenticationHeaderValue("Bearer", key);
        return http;
    }

    static async Task<TimeSpan> Send(HttpClient http, string space, string to)
    {
        long began = Stopwatch.GetTimestamp();
        using var content = new StringContent($$"""{"to":["{{to}}"],"type":"engine.check.due","title":"Turnstone: bow thruster check due"}""",
            Encoding.UTF8, "application/json");
        using var answer = await http.PostAsync(space == "main" ? "/v1/notifications" : $"/s/{space}/v1/notifications", content);
        answer.EnsureSuccessStatusCode();
        return Stopwatch.GetElapsedTime(began);
    }

    static string Quantiles(List<TimeSpan> times)
    {
        times.Sort();
        return $"p50 {times[times.Count / 2].TotalMilliseconds:F2} ms, p99 {times[times.Count * 99 / 100].TotalMilliseconds:F2} ms";
    }

    /// <summary>All of them send at once, one after the other each.</summary>
    static async Task Active(string place, Home many)
    {
        using var service = await ServiceProcess.Start(many.Folder, environment: many.Environment);
        var clients = many.Keys.Select(k => (k.Space, Http: Client(service, k.Key))).ToList();
        var times = new List<TimeSpan>();
        for (int round = 0; round < 3; round++)
        {
            times = [];
            long began = Stopwatch.GetTimestamp();
            var next = 0;
            await Task.WhenAll(Enumerable.Range(0, 32).Select(async _ =>
            {
                for (int i; (i = Interlocked.Increment(ref next) - 1) < clients.Count * 3;)
                {
                    var (space, http) = clients[i % clients.Count];
                    var took = await Send(http, space, "user:mara");
                    lock (times) times.Add(took);
                }
            }));
            double seconds = Stopwatch.GetElapsedTime(began).TotalSeconds;
            Say($"{place}: {Many} spaces, 32 senders: {times.Count / seconds:N0} sends/s, {Quantiles(times)}; {Resident(service):F0} MiB");
        }
        foreach (var (_, http) in clients) http.Dispose();
        await service.Terminate();
    }

    /// <summary>Everybody of every space gets something: what so many people cost once nobody is connected.</summary>
    static async Task People(string place, Home many)
    {
        double before, after, restarted, people = (double)many.Keys.Count * PeopleEach;
        long written = Size(many.Folder);
        using (var service = await ServiceProcess.Start(many.Folder, environment: many.Environment))
        {
            await Task.Delay(Idle);
            before = Resident(service);
            long began = Stopwatch.GetTimestamp();
            await Parallel.ForEachAsync(many.Keys, new ParallelOptions { MaxDegreeOfParallelism = 4 }, async (of, stop) =>
            {
                using var http = Client(service, of.Key);
                var lines = string.Join('\n', Enumerable.Range(0, PeopleEach).Select(n =>
                    $$"""{"to":["user:deckhand-{{n}}"],"type":"roster.changed","title":"Your watch begins at 06:00"}"""));
                using var content = new StringContent(lines, Encoding.UTF8, "application/x-ndjson");
                using var answer = await http.PostAsync(of.Space == "main" ? "/v1/notifications" : $"/s/{of.Space}/v1/notifications", content,
                    stop);
                answer.EnsureSuccessStatusCode();
            });
            double seconds = Stopwatch.GetElapsedTime(began).TotalSeconds;
            await Task.Delay(Idle);
            after = Resident(service);
            Say($"{place}: {people:N0} people in {Many} spaces, one notification each: {seconds:F0} s ({people / seconds:N0}/s); resident " +
                $"{before:F0} MiB before, {after:F0} MiB {Idle.TotalSeconds} s later ({(after - before) * 1048576 / people:F0} bytes a person)");
            await service.Terminate();
        }
        long starts = Stopwatch.GetTimestamp();
        using (var service = await ServiceProcess.Start(many.Folder, environment: many.Environment))
        {
            double start = Stopwatch.GetElapsedTime(starts).TotalSeconds;
            await Task.Delay(Idle);
            restarted = Resident(service);
            Say($"{place}: started again in {start:F1} s, {restarted:F0} MiB ({(restarted - before) * 1048576 / people:F0} bytes a person)" +
                (many.Environment.ContainsKey("ROVETT_DATABASE") ? "" : $"; on disk {(Size(many.Folder) - written) / people:F0} bytes a person"));
            await service.Terminate();
        }
    }

    static long Size(string folder) => new DirectoryInfo(folder).EnumerateFiles("*", SearchOption.AllDirectories).Sum(f => f.Length);

    /// <summary>Sends to one space in a closed loop: alone, beside another space of the same service that asks as much as it can, beside
    /// the same load on another service, which shares only the processors and the disk, and beside the same space with a limit.</summary>
    static async Task Hostile(string place, Home many, Home others)
    {
        using var service = await ServiceProcess.Start(many.Folder, environment: many.Environment);
        using var other = await ServiceProcess.Start(others.Folder, environment: others.Environment);
        using var victim = Client(service, many.Keys[0].Key);
        foreach (var (what, most) in new[] { ("single requests", 1), ("one in four with 300 notifications", 300) })
        {
            var (ratios, controls, limits) = (new List<double>(), new List<double>(), new List<double>());
            for (int pair = 0; pair < 4; pair++)
            {
                var alone = await Loop(victim);
                var (beside, asked) = await Beside(victim, service, many.Keys[1], most);
                var (control, askedOther) = await Beside(victim, other, others.Keys[1], most);
                await Limit(service, many.Keys[1], $$"""{"sendsPerSecond":{{Limited}}}""");
                var (limited, askedLimited) = await Beside(victim, service, many.Keys[1], most);
                await Limit(service, many.Keys[1], "null");
                if (pair == 0) continue; // to warm up
                Say($"{place}, {what}: alone {Quantiles(alone)}; beside {asked:N0} hostile requests/s {Quantiles(beside)}; beside " +
                    $"{askedOther:N0}/s to another service {Quantiles(control)}; beside {askedLimited:N0}/s that may send {Limited} a second " +
                    $"{Quantiles(limited)}");
                ratios.Add(beside[beside.Count * 99 / 100] / alone[alone.Count * 99 / 100]);
                controls.Add(beside[beside.Count * 99 / 100] / control[control.Count * 99 / 100]);
                limits.Add(limited[limited.Count * 99 / 100] / alone[alone.Count * 99 / 100]);
            }
            Say($"{place}, {what}: p99 beside / alone, median {Median(ratios):F2}; beside / beside another service, median " +
                $"{Median(controls):F2}; beside with a limit / alone, median {Median(limits):F2}");
        }
        await service.Terminate();
        await other.Terminate();

        static double Median(List<double> of) => of.Order().ElementAt(of.Count / 2);
    }

    static async Task Limit(ServiceProcess service, (string Space, string Key) of, string limits)
    {
        using var http = Client(service, of.Key);
        using var content = new StringContent($$"""{"limits":{{limits}}}""", Encoding.UTF8, "application/json");
        using var answer = await http.PatchAsync($"/s/{of.Space}/v1/settings", content);
        answer.EnsureSuccessStatusCode();
    }

    static async Task<(List<TimeSpan> Times, double Asked)> Beside(HttpClient victim, ServiceProcess hostile, (string Space, string Key) of,
        int most)
    {
        // It runs only when nothing else wants a processor. Not in a session of its own: the kernel would let it finish its slice of 4 ms
        // each time.
        using var asking = Process.Start(new ProcessStartInfo("chrt", ["--idle", "0", "dotnet", Environment.GetCommandLineArgs()[0], "hostile",
            hostile.Url.ToString(), of.Key, of.Space, $"{most}"])
        { RedirectStandardOutput = true })!;
        await asking.StandardOutput.ReadLineAsync(); // it asks
        var times = await Loop(victim);
        return (times, double.Parse(await asking.StandardOutput.ReadToEndAsync()));
    }

    /// <summary>Asks of a space as much as it can, for somewhat longer than another is measured.</summary>
    public static async Task Ask(string url, string key, string space, int most)
    {
        using var http = new HttpClient { BaseAddress = new Uri(url) };
        http.DefaultRequestHeaders.Authorization = new AuthenticationHeaderValue("Bearer", key);
        using var stop = new CancellationTokenSource(Length + TimeSpan.FromSeconds(2));
        long asked = 0, began = Stopwatch.GetTimestamp();
        var asking = Enumerable.Range(0, 16).Select(n => Ask(http, space, n, most, () => Interlocked.Increment(ref asked), stop.Token))
            .ToList();
        await Task.Delay(TimeSpan.FromSeconds(1));
        Say("asking");
        await Task.WhenAll(asking);
        Say($"{asked / Stopwatch.GetElapsedTime(began).TotalSeconds}");
    }

    static async Task<List<TimeSpan>> Loop(HttpClient http)
    {
        var times = new List<TimeSpan>();
        for (long began = Stopwatch.GetTimestamp(); Stopwatch.GetElapsedTime(began) < Length;)
        {
            times.Add(await Send(http, "main", "user:mara"));
        }
        return times;
    }

    static async Task Ask(HttpClient http, string space, int n, int most, Action asked, CancellationToken stop)
    {
        for (int i = 0; !stop.IsCancellationRequested; i++)
        {
            var lines = string.Join('\n', Enumerable.Range(0, (i + n) % 4 == 0 ? most : 1).Select(k =>
                $$"""{"to":["role:crew-{{k % 7}}"],"type":"berth.changed","title":"Berth {{k}}","subject":"berth/{{i % 100}}"}"""));
            using var content = new StringContent(lines, Encoding.UTF8, "application/x-ndjson");
            using var answer = await http.PostAsync($"/s/{space}/v1/notifications", content, CancellationToken.None);
            asked();
            if ((int)answer.StatusCode == 503) await Task.Delay(10, CancellationToken.None);
        }
    }

    static void Say(string line) => Console.WriteLine(line);
}
