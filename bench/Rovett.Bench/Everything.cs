using System.Diagnostics;
using System.Text;
using Rovett.Testing;
using Spectre.Console;

namespace Rovett.Bench;

/// <summary>What users feel, beside the floor in one run: prints a table, and writes it into docs/performance.md.</summary>
static class Everything
{
    const int Rounds = 3, Sessions = 1000, AtOnce = 10_000, Crowd = 3000, Behind = 50_000, AllBehind = 1000, InFlight = 64;
    static readonly TimeSpan Length = TimeSpan.FromSeconds(4), Warmup = TimeSpan.FromSeconds(2),
        SendWarmup = TimeSpan.FromSeconds(8); // until the optimised code is in use

    /// <param name="What">What is measured.</param>
    /// <param name="Unit">In which unit.</param>
    /// <param name="Goal">The ratio to the floor: at least, or negative: at most.</param>
    /// <param name="Most">In place of a ratio: the most that Rovett may take.</param>
    internal sealed record Row(string What, string Unit, double Goal, double? Most = null)
    {
        public List<double> Floor { get; } = [];
        public List<double> Rovett { get; } = [];

        public List<double> Ratios => [.. Floor.Zip(Rovett, (f, r) => r / f).Order()];

        public static string Number(double n) => n >= 1000 ? $"{n:N0}" : n >= 10 ? $"{n:F0}" : $"{n:F2}";

        public static double Median(List<double> all) => all.Order().ElementAt(all.Count / 2);
    }

    /// <param name="some">The rows to measure, by themselves; empty: all, which are written down.</param>
    public static async Task Run(string[] some)
    {
        var rows = Rows();
        foreach (var row in rows.Keys.Where(r => some.Length > 0 && !some.Contains(r)).ToList()) rows.Remove(row);
        for (int round = 0; round < Rounds; round++)
        {
            await OfAll(isFloor: true, rows);
            await OfAll(isFloor: false, rows);
            Console.WriteLine($"round {round + 1} of {Rounds}: " + string.Join(", ", rows.Where(r => r.Value.Floor.Count > round)
                .Select(r => $"{r.Key} {r.Value.Rovett[^1] / r.Value.Floor[^1]:F2}")));
        }
        if (rows.TryGetValue("bulk", out var bulk))
        {
            foreach (var (floor, rovett) in await Bulk.Run())
            {
                bulk.Floor.Add(floor);
                bulk.Rovett.Add(rovett);
            }
        }
        Show(rows.Values);
        if (some.Length == 0) await Write(rows.Values, await Holds.Run());
    }

    internal static Dictionary<string, Row> Rows() => new()
    {
        ["websocket"] = new("Fan-out to 1,000 over WebSocket", "deliveries/s", 0.9),
        ["sse"] = new("Fan-out to 1,000 over SSE", "deliveries/s", 0.9),
        ["sends"] = new("Sends to one person each, 64 in flight", "sends/s", 0.5),
        ["cpu"] = new("Processor time of such a send", "µs", -2),
        ["arrival"] = new("Send to arrival, one at a time", "ms, p50", -2),
        ["bulk"] = new("1,000 sends in one request; floor: plain SQLite", "notifications/s", 0.9),
        ["new"] = new("10,000 sessions connect at once with new tokens", "s until all are open", -2),
        ["es256"] = new("The same with new ES256 tokens", "s until all are open", -2.5),
        ["again"] = new("The same 10,000 reconnect with the same tokens", "s until all are open", -2),
        ["one"] = new("Connecting, one session at a time", "ms, p50", -1.5),
        ["meanwhile"] = new("A send to one person while 3,000 connect", "ms, p99", 0, Most: 50),
        ["behind"] = new("One session catches up on 50,000", "notifications/s", 0.3),
        ["all-behind"] = new("1,000 sessions catch up on 1,000 after a restart", "notifications/s", 0.3),
        ["start"] = new("Start to ready", "s", -3),
    };

    static string Goal(Row row) => row.Most is { } most ? $"≤ {most} ms" : row.Goal > 0 ? $"≥ {row.Goal:0.#} ×" : $"≤ {-row.Goal:0.#} ×";

    static bool IsMet(Row row) => row.Most is { } most ? Row.Median(row.Rovett) <= most
        : row.Ratios[row.Ratios.Count / 2] is var ratio && (row.Goal > 0 ? ratio >= row.Goal : ratio <= -row.Goal);

    static void Show(IEnumerable<Row> rows)
    {
        var title = new TableTitle("Rovett beside the floor, medians of one run", new Style(decoration: Decoration.Bold));
        var table = new Table().RoundedBorder().Title(title);
        foreach (var column in new[] { "what", "", "floor", "Rovett", "ratio", "lowest", "highest", "goal" }) table.AddColumn(column);
        foreach (int number in new[] { 2, 3, 4, 5, 6, 7 }) table.Columns[number].RightAligned();
        foreach (var row in rows)
        {
            var ratios = row.Ratios;
            table.AddRow(new Text(row.What), new Text(row.Unit), new Text(Row.Number(Row.Median(row.Floor))),
                new Text(Row.Number(Row.Median(row.Rovett))), new Text($"{ratios[ratios.Count / 2]:F2} ×"), new Text($"{ratios[0]:F2}"),
                new Text($"{ratios[^1]:F2}"), new Text(Goal(row), IsMet(row) ? new Style(Color.Green) : new Style(Color.Red)));
        }
        AnsiConsole.Write(table);
    }

    static async Task Write(IEnumerable<Row> rows, List<Holds.Held> held)
    {
        var report = new StringBuilder("| what | | floor | Rovett | ratio, median [lowest – highest] | goal |\n" +
            "| --- | --- | --- | --- | --- | --- |\n");
        foreach (var row in rows)
        {
            var ratios = row.Ratios;
            report.Append($"| {row.What} | {row.Unit} | {Row.Number(Row.Median(row.Floor))} | {Row.Number(Row.Median(row.Rovett))} | " +
                $"{ratios[ratios.Count / 2]:F2} × [{ratios[0]:F2} – {ratios[^1]:F2}] | {Goal(row)} |\n");
        }
        report.Append($"\nMeasured on {DateTime.UtcNow:yyyy-MM-dd}, {Rounds} rounds, floor and Rovett in turn.\n");
        await Replace("make bench", report.ToString());
        await Replace("make bench, holds", Holds.Report(held));
    }

    /// <summary>Replaces a part of docs/performance.md.</summary>
    public static async Task Replace(string part, string text)
    {
        var file = Path.Combine(ServiceProcess.Root, "docs", "performance.md");
        var all = await File.ReadAllTextAsync(file);
        string begin = $"<!-- {part}: begin -->", end = $"<!-- {part}: end -->";
        await File.WriteAllTextAsync(file, all[..(all.IndexOf(begin, StringComparison.Ordinal) + begin.Length)] + "\n" + text +
            all[all.IndexOf(end, StringComparison.Ordinal)..]);
    }

    static async Task OfAll(bool isFloor, Dictionary<string, Row> rows)
    {
        await OfAll(() => Side.Start(isFloor), rows, (row, value) => (isFloor ? row.Floor : row.Rovett).Add(value));
    }

    internal static async Task OfAll(Func<Task<Side>> start, Dictionary<string, Row> rows, Action<Row, double> note)
    {
        await Of(["start", "websocket"], async side => [side.ReadyAfter.TotalSeconds, await FanOut(side, true)]);
        await Of(["sse"], async side => [await FanOut(side, false)]);
        await Of(["sends", "cpu"], Sends);
        await Of(["arrival"], async side => [await Arrival(side)]);
        await Of(["new", "again", "one", "es256"], side => Connecting(side, rows.ContainsKey("es256")));
        await Of(["meanwhile"], async side => [await SendsWhileManyConnect(side)]);
        await Of(["behind"], async side => [await CatchUp(side)]);
        await Of(["all-behind"], async side => [await AllCatchUp(side)]);

        async Task Of(string[] names, Func<Side, Task<double[]>> measure)
        {
            if (!names.Any(rows.ContainsKey)) return;
            using var side = await start();
            foreach (var (name, value) in names.Zip(await measure(side)))
            {
                if (rows.TryGetValue(name, out var row)) note(row, value);
            }
        }
    }

    static async Task<double[]> Connecting(Side side, bool signsOtherwise)
    {
        var requests = Enumerable.Range(0, AtOnce).Select(i => side.Open(i, true)).ToArray();
        await AllAtOnce(side, requests); // code is compiled, users are known
        requests = [.. Enumerable.Range(0, AtOnce).Select(i => side.Open(i, true))];
        double[] all = [await AllAtOnce(side, requests), await AllAtOnce(side, requests), await OneByOne(side, requests)];
        if (!signsOtherwise) return all;
        await side.TakeCurveKey();
        requests = [.. Enumerable.Range(0, AtOnce).Select(i => side.Open(i, true, byCurve: true))];
        return [.. all, await AllAtOnce(side, requests)];
    }

    static async Task<double> FanOut(Side side, bool webSocket)
    {
        var load = new Load(side.Url, webSocket, Sessions, i => side.Open(i, webSocket), side.ToAll(webSocket), side.Body("role:crew"),
            side.Key, acks: true)
        { Warmup = Warmup, WaitsUntilOpen = true };
        return (await load.Run()).PerSecond;
    }

    static async Task<double[]> Sends(Side side)
    {
        long came = 0, sent = 0;
        using var connected = await Connected(side, (_, count) => Interlocked.Add(ref came, count));
        using var stop = new CancellationTokenSource();
        var senders = Enumerable.Range(0, InFlight).Select(async n =>
        {
            using var sender = await Sender.Connect(side.Url.Port);
            var requests = Enumerable.Range(0, Sessions).Select(side.SendTo).ToArray();
            for (int i = n; !stop.IsCancellationRequested; i += InFlight)
            {
                await sender.Send(requests[i % Sessions]);
                Interlocked.Increment(ref sent);
            }
        }).ToArray();
        await Task.Delay(SendWarmup);
        var (from, cpu, clock) = (Volatile.Read(ref sent), side.Cpu, Stopwatch.StartNew());
        await Task.Delay(Length);
        var (all, used, took) = (Volatile.Read(ref sent) - from, side.Cpu - cpu, clock.Elapsed);
        await stop.CancelAsync();
        await Task.WhenAll(senders);
        await Eventually.Holds(() => Volatile.Read(ref came) == Volatile.Read(ref sent), "everything that was sent arrives");
        return [all / took.TotalSeconds, used.TotalMicroseconds / all];
    }

    static async Task<double> Arrival(Side side)
    {
        using var arrived = new SemaphoreSlim(0);
        using var connected = await Connected(side, (_, count) => arrived.Release(count));
        using var sender = await Sender.Connect(side.Url.Port);
        var times = new List<double>();
        for (int i = 0; i < 2000; i++)
        {
            var request = side.SendTo(i % Sessions);
            if (arrived.CurrentCount > 0) throw new InvalidOperationException("Something arrived that was not sent.");
            long began = Stopwatch.GetTimestamp();
            var answered = sender.Send(request);
            await arrived.WaitAsync();
            times.Add(Stopwatch.GetElapsedTime(began).TotalMilliseconds);
            await answered;
        }
        return Row.Median(times[500..]);
    }

    static async Task<Gathered> Connected(Side side, Action<int, int> came)
    {
        var all = new Gathered();
        int open = 0;
        foreach (var chunk in Enumerable.Range(0, Sessions).Chunk(100))
        {
            await Task.WhenAll(chunk.Select(i => all.Add(side, side.Open(i, true), acks: true, count => came(i, count),
                _ => Interlocked.Increment(ref open))));
        }
        await Eventually.Holds(() => Volatile.Read(ref open) == Sessions, "all are open");
        return all;
    }

    static async Task<double> SendsWhileManyConnect(Side side)
    {
        string[] Requests() => [.. Enumerable.Range(1, Crowd).Select(i => side.Open(i, true))];
        await AllAtOnce(side, Requests()); // code is compiled, users are known
        using var arrived = new SemaphoreSlim(0);
        using var one = new Gathered();
        var isOpen = new TaskCompletionSource();
        await one.Add(side, side.Open(0, true), acks: true, count => arrived.Release(count), _ => isOpen.SetResult());
        await isOpen.Task;
        using var sender = await Sender.Connect(side.Url.Port);
        var times = new List<double>();
        for (int round = 0; round < 3; round++)
        {
            var requests = Requests();
            await Task.Delay(1000);
            for (var connecting = AllAtOnce(side, requests, wait: false); !connecting.IsCompleted;)
            {
                long began = Stopwatch.GetTimestamp();
                var answered = sender.Send(side.SendTo(0));
                await arrived.WaitAsync();
                times.Add(Stopwatch.GetElapsedTime(began).TotalMilliseconds);
                await answered;
            }
        }
        return times.Order().ElementAt(times.Count * 99 / 100);
    }

    static async Task<double> AllAtOnce(Side side, string[] requests, bool wait = true)
    {
        if (wait) await Task.Delay(1000); // those before are gone
        using var all = new Gathered();
        using var room = new SemaphoreSlim(256);
        var (open, done) = (0, new TaskCompletionSource());
        long began = Stopwatch.GetTimestamp();
        foreach (var request in requests)
        {
            await room.WaitAsync();
            _ = all.Add(side, request, acks: false, static _ => { }, _ =>
            {
                room.Release();
                if (Interlocked.Increment(ref open) == requests.Length) done.SetResult();
            });
        }
        await done.Task.WaitAsync(TimeSpan.FromSeconds(60));
        return Stopwatch.GetElapsedTime(began).TotalSeconds;
    }

    static async Task<double> OneByOne(Side side, string[] requests)
    {
        var times = new List<double>();
        foreach (var request in requests.Take(1000))
        {
            using var one = new Gathered();
            var open = new TaskCompletionSource();
            long began = Stopwatch.GetTimestamp();
            await one.Add(side, request, acks: false, static _ => { }, _ => open.SetResult());
            await open.Task;
            times.Add(Stopwatch.GetElapsedTime(began).TotalMilliseconds);
        }
        return Row.Median(times);
    }

    static async Task<double> CatchUp(Side side)
    {
        var request = (await side.Behind(1, Behind))[0];
        double best = 0;
        for (int i = 0; i < 10; i++) // from the same cursor each time; the first few run before the code is optimised
        {
            using var one = new Gathered();
            var (came, done) = (0, new TaskCompletionSource());
            long began = Stopwatch.GetTimestamp();
            await one.Add(side, request, acks: true, count =>
            {
                if ((came += count) >= Behind) done.TrySetResult();
            }, null);
            await done.Task.WaitAsync(TimeSpan.FromSeconds(60));
            best = Math.Max(best, Behind / Stopwatch.GetElapsedTime(began).TotalSeconds);
        }
        return best;
    }

    static async Task<double> AllCatchUp(Side side)
    {
        await AllAtOnce(side, [.. Enumerable.Range(0, Sessions).Select(i => side.Open(i, true))]); // they are known
        var requests = await side.Behind(Sessions, AllBehind);
        await side.Restart();
        double best = 0;
        for (int i = 0; i < 3; i++)
        {
            await Task.Delay(1000);
            using var all = new Gathered();
            var (came, done) = (0L, new TaskCompletionSource());
            long began = Stopwatch.GetTimestamp();
            await Task.WhenAll(requests.Select(r => all.Add(side, r, acks: true, count =>
            {
                if (Interlocked.Add(ref came, count) >= Sessions * AllBehind) done.TrySetResult();
            }, null)));
            await done.Task.WaitAsync(TimeSpan.FromSeconds(60));
            best = Math.Max(best, Sessions * AllBehind / Stopwatch.GetElapsedTime(began).TotalSeconds);
        }
        return best;
    }

    /// <summary>Sessions that are closed together.</summary>
    sealed class Gathered : IDisposable
    {
        readonly CancellationTokenSource stop = new();
        readonly List<LoadSession> all = [];

        public Task Add(Side side, string request, bool acks, Action<int> came, Action<string>? opened)
        {
            var session = new LoadSession(acks, came, opened);
            lock (all) all.Add(session);
            return session.Connect(side.Url.Port, Encoding.ASCII.GetBytes(request), stop.Token);
        }

        public void Dispose()
        {
            stop.Cancel();
            foreach (var session in all) session.Dispose();
            stop.Dispose();
        }
    }
}
