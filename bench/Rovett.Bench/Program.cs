using System.Globalization;
using Rovett.Bench;
using Rovett.Testing;
using Rovett.Testing.Servers;

// Measures what users feel beside the floor, in turn, and writes the ratios into docs/performance.md; or, named, one thing by itself.
CultureInfo.CurrentCulture = CultureInfo.InvariantCulture;
const int sessions = 1000;
var payload = new string('x', 180);
var productBody =
    $$$"""{"to":["role:crew"],"type":"engine.check.due","title":"Turnstone: bow thruster check due","data":{"pad":"{{{payload}}}"}}""";
if (args is ["floor", var readyFile, .. var duties])
{
    await Floor.Run(readyFile, duties is [var duty, var history] ? new Duties(Enum.Parse<Duty>(duty), history) : null);
    return 0;
}
if (args is ["duties", .. var names])
{
    await DutyTable.Run(names);
    return 0;
}
if (args is ["bulk"])
{
    await Bulk.Run();
    return 0;
}
if (args is ["holds"])
{
    await Everything.Replace("make bench, holds", Holds.Report(await Holds.Run()));
    return 0;
}
if (args is ["intakes", .. var kinds])
{
    await Intakes.Run(kinds is [var kind, ..] ? kind : null);
    return 0;
}
if (args is ["spaces", .. var homes])
{
    await Spaces.Run(homes is [var home, ..] ? home : null, homes is [_, var parts] ? parts : null);
    return 0;
}
if (args is ["hostile", var url, var key, var space, var most])
{
    await Spaces.Ask(url, key, space, int.Parse(most));
    return 0;
}
if (args is ["nodes"])
{
    await NodesBench.Run();
    return 0;
}
if (args is ["metrics"])
{
    await Metrics();
    return 0;
}
if (args is ["pairs", var before])
{
    await Pairs(before);
    return 0;
}
if (args is ["counting"])
{
    Counting.Run();
    return 0;
}
if (args is ["homes"])
{
    await Homes();
    return 0;
}
if (args is ["pages", .. var counts])
{
    await Pages.Run(counts is [var people, ..] ? int.Parse(people) : 100_000, counts is [_, var many] ? int.Parse(many) : 1_000_000);
    return 0;
}

await Everything.Run(args is ["rows", .. var rows] ? rows : []);
return 0;

// Fan-out from a PostgreSQL database beside that from a data folder, in turn.
async Task Homes()
{
    using var server = PostgresServer.Lasting();
    foreach (bool webSocket in new[] { true, false })
    {
        var ratios = new List<double>();
        for (int pair = 0; pair < 5; pair++)
        {
            // Of the driver for PostgreSQL nothing is compiled ahead.
            var warmup = TimeSpan.FromSeconds(15);
            double folder = await OfProduct(webSocket, warmup: warmup), database = await OfProduct(webSocket, server.NewDatabase(), warmup);
            ratios.Add(database / folder);
            Console.WriteLine($"{(webSocket ? "WebSocket" : "SSE")}: data folder {folder:N0}/s, PostgreSQL {database:N0}/s, ratio " +
                $"{ratios[^1]:F2}");
        }
        Console.WriteLine($"{(webSocket ? "WebSocket" : "SSE")}: median {ratios.Order().ElementAt(2):F2}");
    }
}

// Fan-out of this build beside another, given by the folder of its command line: deliveries, and the service's processor time for each.
async Task Pairs(string before)
{
    foreach (bool webSocket in (bool[])[true, false])
    {
        var (rates, costs) = (new List<double>(), new List<double>());
        for (int pair = 0; pair < 7; pair++)
        {
            (double Rate, double Cost) was = default, now = default;
            foreach (bool isOld in (bool[])[pair % 2 == 0, pair % 2 == 1])
            {
                var spent = TimeSpan.Zero;
                double rate = await OfProduct(webSocket, build: isOld ? before : null, spent: time => spent = time);
                var read = (rate, spent.TotalMicroseconds / (rate * Load.Measured.TotalSeconds));
                if (isOld) was = read;
                else now = read;
            }
            rates.Add(now.Rate / was.Rate);
            costs.Add(now.Cost / was.Cost);
            Console.WriteLine($"{(webSocket ? "WebSocket" : "SSE")}: {was.Rate:N0}/s, {was.Cost:F2} µs each, and now {now.Rate:N0}/s, {now.Cost:F2} µs; " +
                $"{rates[^1]:F2} × as many, {costs[^1]:F2} × the time");
        }
        Console.WriteLine($"medians {rates.Order().ElementAt(3):F2} and {costs.Order().ElementAt(3):F2}");
    }
}

// What metrics cost: read each second beside none at all.
async Task Metrics()
{
    var ratios = new List<double>();
    for (int pair = 0; pair < 7; pair++)
    {
        // Each is first in turn: what a machine does to the first is not counted to one of them.
        Dictionary<string, string> off = new() { ["ROVETT_METRICS"] = "off" };
        double without = pair % 2 == 0 ? await OfProduct(true, environment: off) : 0, with = await OfProduct(true, isRead: true);
        if (pair % 2 == 1) without = await OfProduct(true, environment: off);
        ratios.Add(with / without);
        Console.WriteLine($"metrics off {without:N0}/s, metrics read each second {with:N0}/s, ratio {ratios[^1]:F3}");
    }
    Console.WriteLine($"median {ratios.Order().ElementAt(3):F3}");
}

async Task<double> OfProduct(bool webSocket, string? database = null, TimeSpan? warmup = null, Dictionary<string,
    string>? environment = null,
    string? build = null, bool isRead = false, Action<TimeSpan>? spent = null)
{
    var folder = Directory.CreateTempSubdirectory("rovett-bench-").FullName;
    environment ??= database is null ? [] : new() { ["ROVETT_DATABASE"] = database };
    using (var service = await ServiceProcess.Start(folder, environment: environment, build: build))
    {
        using var http = new HttpClient();
        var began = TimeSpan.Zero;
        using var reading = new Timer(_ => _ = http.GetStringAsync((string)service.Ready["metrics"]!), null,
            isRead ? TimeSpan.FromSeconds(1) : Timeout.InfiniteTimeSpan, TimeSpan.FromSeconds(1));
        var secret = (string)service.Ready["credentials"]!["tokenSigningSecret"]!;
        return (await new Load(service.Url, webSocket, sessions,
            i => Load.Request(webSocket, "/v1/live", TestTokens.Make(secret, $"person{i}", ["crew"])), "/v1/notifications", productBody,
            (string)service.Ready["credentials"]!["adminKey"]!, acks: true)
        {
            Warmup = warmup ?? TimeSpan.FromSeconds(3),
            Counts = (begins, _) =>
            {
                if (begins) began = service.Cpu;
                else spent?.Invoke(service.Cpu - began);
            },
        }.Run()).PerSecond;
    }
}
