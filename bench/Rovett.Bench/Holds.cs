using System.Globalization;
using System.Net.Http.Headers;
using System.Text;
using System.Text.RegularExpressions;
using Rovett.Testing;
using Spectre.Console;

namespace Rovett.Bench;

/// <summary>How long single commands hold the ledger's thread while everything that is large is asked for at once: imports, sends in bulk
/// and to long lists, deadlines of many, marks, role changes, policies, grants to roles, erasures, spaces that come and go.</summary>
static partial class Holds
{
    const int People = 3000, Connected = 500, Vessels = 20;
    static readonly TimeSpan Length = TimeSpan.FromSeconds(15);
    static readonly string[] Columns = ["command, or a step of it", "how many", "mean, ms", "over 5 ms", "over 20 ms"];

    /// <summary>How often a kind of command, or a step of one, held the thread for how long.</summary>
    /// <param name="Kind">The kind.</param>
    /// <param name="Count">How many there were.</param>
    /// <param name="Mean">How long one took, ms.</param>
    /// <param name="To5">How many of them took 5 ms at most.</param>
    /// <param name="To20">The same with 20 ms.</param>
    public sealed record Held(string Kind, long Count, double Mean, long To5, long To20);

    public static async Task<List<Held>> Run()
    {
        var folder = Directory.CreateTempSubdirectory("rovett-holds-").FullName;
        try
        {
            using var service = await ServiceProcess.Start(folder);
            var secret = (string)service.Ready["credentials"]!["tokenSigningSecret"]!;
            using var http = new HttpClient { BaseAddress = service.Url };
            var key = (string)service.Ready["credentials"]!["adminKey"]!;
            async Task Ask(HttpMethod method, string path, string? body = null, string? credential = null, bool isLines = false)
            {
                using var request = new HttpRequestMessage(method, path);
                request.Headers.Authorization = new AuthenticationHeaderValue("Bearer", credential ?? key);
                if (body is not null)
                    request.Content = new StringContent(body, Encoding.UTF8, isLines ? "application/x-ndjson" : "application/json");
                using var answer = await http.SendAsync(request);
                if (answer.IsSuccessStatusCode || (int)answer.StatusCode == 503) return; // 503: overloaded, which is expected here
                throw new InvalidOperationException($"{method} {path}: {await answer.Content.ReadAsStringAsync()}");
            }
            static string Lines(int count, Func<int, string> line) => string.Join('\n', Enumerable.Range(0, count).Select(line));
            static string Policies(string may) => "{\"policies\":[{\"name\":\"sailings for the crew\",\"topic\":\"sailing/{sailing}\"," +
                $"\"may\":[{may}],\"when\":{{\"role\":\"deckhand\"}}}}]}}";
            string Import(int round) => Lines(People, n =>
                $$"""{"id":"deckhand-{{n}}","displayName":"Deckhand {{n}}","roles":["deckhand","vessel-{{(n + round) % Vessels}}"]}""");

            using var stop = new CancellationTokenSource();
            await Ask(HttpMethod.Put, "/v1/policies", Policies("\"subscribe\",\"follow\""));
            await Ask(HttpMethod.Post, "/v1/users", Import(0), isLines: true);
            var tokens = Enumerable.Range(0, People).Select(n => TestTokens.Make(secret, $"deckhand-{n}", ["deckhand"])).ToArray();
            await Parallel.ForAsync(0, People, new ParallelOptions { MaxDegreeOfParallelism = 16 }, async (n, _) =>
                await Ask(HttpMethod.Post, "/v1/follows", $$"""{"topic":"sailing/{{n % 50}}"}""", tokens[n]));

            using var opened = new CountdownEvent(Connected);
            var sessions = Enumerable.Range(0, Connected).Select(_ => new LoadSession(acks: true, static _ => { }, _ => opened.Signal())).ToList();
            for (int n = 0; n < Connected; n++)
            {
                await sessions[n].Connect(service.Url.Port, Encoding.ASCII.GetBytes(Load.Request(true, "/v1/live", tokens[n])), stop.Token);
            }
            if (!opened.Wait(TimeSpan.FromSeconds(30))) throw new TimeoutException("Not all sessions are open.");

            var metrics = new Uri((string)service.Ready["metrics"]!);
            var before = Read(await http.GetStringAsync(metrics));
            stop.CancelAfter(Length);
            Task Again(Func<int, Task> ask, int atOnce = 1) => Task.WhenAll(Enumerable.Range(0, atOnce).Select(async first =>
            {
                for (int n = first; !stop.IsCancellationRequested; n += atOnce) await ask(n);
            }));
            const string due = "\"type\":\"engine.check.due\",\"title\":\"Turnstone: bow thruster check due\"";
            string Hundred(int n) => string.Join(',', Enumerable.Range(0, 100).Select(i => $"\"user:deckhand-{(n * 100 + i) % People}\""));
            await Task.WhenAll(
                Again(n => Ask(HttpMethod.Post, "/v1/users", Import(n), isLines: true)),
                Again(n => Ask(HttpMethod.Post, "/v1/notifications", Lines(1000, i =>
                    $$"""{"to":["role:vessel-{{i % Vessels}}"],{{due}},"subject":"vessel/{{i % 100}}"}"""), isLines: true)),
                Again(n => Ask(HttpMethod.Post, "/v1/notifications", $$"""{"to":[{{Hundred(n)}}],{{due}}}""")),
                Again(n => Ask(HttpMethod.Post, "/v1/notifications",
                    $$"""{"to":["role:vessel-{{n % Vessels}}"],{{due}},"deadlines":[{"by":"read","within":"PT1S","who":"each"}]}""")),
                Again(n => Ask(HttpMethod.Post, "/v1/inbox/marks",
                    n % 2 == 0 ? """{"read":{"all":true}}""" : $$$"""{"unread":{"subject":"vessel/{{{n % 100}}}"}}""", tokens[n % 2000]), 8),
                Again(n => Ask(HttpMethod.Put, "/v1/policies", Policies(n % 2 == 0 ? "\"subscribe\"" : "\"subscribe\",\"follow\""))),
                Again(n => Ask(HttpMethod.Post, "/v1/grants",
                    $$"""{"role":"vessel-{{n % Vessels}}","topic":"berth/{{n}}","may":["subscribe"]}""")),
                Again(n => Ask(HttpMethod.Delete, $"/v1/users/deckhand-{2000 + n % 1000}"), 2),
                Again(async n =>
                {
                    await Ask(HttpMethod.Post, "/v1/spaces", $$"""{"name":"yard-{{n}}"}""");
                    await Ask(HttpMethod.Delete, $"/v1/spaces/yard-{n}");
                }));
            var held = Read(await http.GetStringAsync(metrics)).Select(h => before.Find(b => b.Kind == h.Kind) is { } was
                ? new Held(h.Kind, h.Count - was.Count, (h.Mean * h.Count - was.Mean * was.Count) / Math.Max(1, h.Count - was.Count),
                    h.To5 - was.To5, h.To20 - was.To20)
                : h).Where(h => h.Count > 0).OrderByDescending(h => h.Count).ToList();
            Show(held);
            foreach (var session in sessions) session.Dispose();
            await service.Terminate();
            return held;
        }
        finally
        {
            Directory.Delete(folder, recursive: true);
        }
    }

    static void Show(List<Held> held)
    {
        var table = new Table().RoundedBorder()
            .Title(new TableTitle("What held the ledger's thread, everything at once", new Style(decoration: Decoration.Bold)));
        foreach (var column in Columns) table.AddColumn(column);
        foreach (int number in new[] { 1, 2, 3, 4 }) table.Columns[number].RightAligned();
        foreach (var h in held)
            table.AddRow(h.Kind, $"{h.Count:N0}", $"{h.Mean:F1}", $"{h.Count - h.To5:N0}", $"{h.Count - h.To20:N0}");
        AnsiConsole.Write(table);
    }

    /// <summary>The table for docs/performance.md.</summary>
    public static string Report(List<Held> held)
    {
        var report = new StringBuilder($"| {string.Join(" | ", Columns)} |\n| --- | --- | --- | --- | --- |\n");
        foreach (var h in held)
            report.Append($"| `{h.Kind}` | {h.Count:N0} | {h.Mean:F1} | {h.Count - h.To5:N0} | {h.Count - h.To20:N0} |\n");
        return report.ToString();
    }

    static List<Held> Read(string metrics)
    {
        var values = new Dictionary<(string Kind, string What), double>();
        foreach (Match line in Line().Matches(metrics))
        {
            var le = Bound().Match(line.Groups["labels"].Value);
            var kind = Command().Match(line.Groups["labels"].Value).Groups[1].Value;
            values[(kind, le.Success ? le.Groups[1].Value : line.Groups["what"].Value)] =
                double.Parse(line.Groups["value"].Value, CultureInfo.InvariantCulture);
        }
        return [.. values.Keys.Select(k => k.Kind).Distinct().Select(kind => new Held(kind, (long)values[(kind, "count")],
            values[(kind, "sum")] * 1000 / values[(kind, "count")], (long)values[(kind, "0.005")], (long)values[(kind, "0.02")]))];
    }

    [GeneratedRegex(@"^rovett_command_duration_seconds_(?<what>bucket|sum|count)\{(?<labels>[^}]*)\} (?<value>\S+)",
        RegexOptions.Multiline)]
    private static partial Regex Line();

    [GeneratedRegex("le=\"([^\"]*)\"")]
    private static partial Regex Bound();

    [GeneratedRegex("rovett_command=\"([^\"]*)\"")]
    private static partial Regex Command();
}
