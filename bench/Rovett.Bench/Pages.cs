using System.Collections.Concurrent;
using System.Diagnostics;
using System.Net.Http.Headers;
using System.Text;
using System.Text.Json.Nodes;
using Microsoft.Playwright;
using Rovett.EndToEnd;
using Rovett.Testing;

namespace Rovett.Bench;

/// <summary>How long each page of the console takes to open beside many people and notifications, from the call until it shows its heading
/// and nothing is loading any more; and the calls of the API that took longest meanwhile.</summary>
static class Pages
{
    const int Roles = 20, Rounds = 3;

    public static async Task Run(int people, int notifications)
    {
        var folder = Directory.CreateTempSubdirectory("rovett-pages-").FullName;
        try
        {
            using var service = await ServiceProcess.Start(folder);
            using var http = new HttpClient { BaseAddress = service.Url, Timeout = TimeSpan.FromMinutes(5) };
            http.DefaultRequestHeaders.Authorization = new AuthenticationHeaderValue("Bearer", (string)service.Ready["credentials"]!["adminKey"]!);
            long start = Stopwatch.GetTimestamp();
            foreach (var some in Enumerable.Range(0, people).Chunk(10_000))
            {
                await Post(http, "/v1/users", some.Select(i =>
                    $$$"""{"id":"person{{{i}}}","displayName":"Person {{{i}}}","roles":["crew-{{{i % Roles}}}"]}"""));
            }
            Console.WriteLine($"{people:N0} people in {Stopwatch.GetElapsedTime(start).TotalSeconds:F1} s");
            start = Stopwatch.GetTimestamp();
            var parts = new ConcurrentQueue<int[]>(Enumerable.Range(0, notifications).Chunk(1000));
            await Task.WhenAll(Enumerable.Range(0, 4).Select(async _ =>
            {
                while (parts.TryDequeue(out var part)) await Post(http, "/v1/notifications", part.Select(i => Line(i, people)));
            }));
            Console.WriteLine($"{notifications:N0} notifications in {Stopwatch.GetElapsedTime(start).TotalSeconds:F1} s");
            await Open(http, service.Url);
        }
        finally
        {
            Directory.Delete(folder, recursive: true);
        }
    }

    static string Line(int i, int people)
    {
        var to = i % 1000 == 999 ? $"role:crew-{i / 1000 % Roles}" : $"user:person{(long)i * 7919 % people}";
        return $$$"""{"to":["{{{to}}}"],"type":"{{{(i % 3 == 0 ? "engine.check.due" : "weather.warning")}}}","title":"Turnstone: check {{{i}}}","subject":"vessel/{{{i % 50}}}","link":"/checks/{{{i}}}"}""";
    }

    static async Task Post(HttpClient http, string path, IEnumerable<string> lines)
    {
        using var content = new ByteArrayContent(Encoding.UTF8.GetBytes(string.Join('\n', lines)));
        content.Headers.ContentType = new MediaTypeHeaderValue("application/x-ndjson");
        using var answer = await http.PostAsync(path, content);
        answer.EnsureSuccessStatusCode();
    }

    static async Task Open(HttpClient http, Uri url)
    {
        using var made = await http.PostAsync("/v1/console-links", new StringContent("{}", Encoding.UTF8, "application/json"));
        var link = (string)JsonNode.Parse(await made.Content.ReadAsStringAsync())!["link"]!;
        var newest = JsonNode.Parse(await http.GetStringAsync("/v1/notifications?limit=1"))!["notifications"]![0]!["id"];
        using var playwright = await Playwright.CreateAsync();
        await using var browser = await Chromium.Launch(playwright);
        var page = await browser.NewPageAsync(new BrowserNewPageOptions { ViewportSize = new ViewportSize { Width = 1280, Height = 800 } });
        await page.GotoAsync(link);
        await page.GetByLabel("Name").FillAsync("ruth");
        await page.GetByRole(AriaRole.Textbox, new PageGetByRoleOptions { Name = "Password" }).FillAsync("marrow sound");
        await page.GetByRole(AriaRole.Button, new PageGetByRoleOptions { Name = "Sign up" }).ClickAsync();
        await page.GetByRole(AriaRole.Navigation).First.WaitForAsync(); // signed in
        await page.WaitForLoadStateAsync(LoadState.NetworkIdle); // and what that opened is there
        var slowest = new List<(double Ms, string Path)>();
        page.RequestFinished += (_, request) =>
        {
            if (request.Timing.ResponseEnd > 0) slowest.Add((request.Timing.ResponseEnd - request.Timing.RequestStart, new Uri(request.Url).PathAndQuery));
        };
        Console.WriteLine("\n| page | to open, ms | the slowest call of it |\n|---|---|---|");
        foreach (var path in new[] { "/", "/?over=7d", "/activity", $"/activity/{newest}", "/activity?text=check+77", "/activity?type=engine.*",
            "/activity?address=user:person7", "/activity?state=taken", "/activity?text=not-there", "/activity?show=events", "/people", "/people?search=9999", "/people/person7",
            "/channels", "/channels?channel=role:crew-3", "/channels?user=person7&right=subscribe&on=topic:berth/3", "/side", "/rules",
            "/setup", "/setup/keys", "/setup/limits", "/set-aside", "/operators" })
        {
            var times = new List<double>();
            slowest.Clear();
            for (int i = 0; i < Rounds; i++)
            {
                long start = Stopwatch.GetTimestamp();
                await page.GotoAsync(new Uri(url, "/console" + path).ToString(), new PageGotoOptions { WaitUntil = WaitUntilState.Commit });
                await page.GetByRole(AriaRole.Navigation).First.WaitForAsync();
                await page.GetByRole(AriaRole.Heading, new PageGetByRoleOptions { Level = 1 }).WaitForAsync();
                await Assertions.Expect(page.GetByLabel("Loading")).ToHaveCountAsync(0, new LocatorAssertionsToHaveCountOptions { Timeout = 60_000 });
                times.Add(Stopwatch.GetElapsedTime(start).TotalMilliseconds);
                await page.WaitForLoadStateAsync(LoadState.NetworkIdle);
            }
            times.Sort();
            var (ms, call) = slowest.Count > 0 ? slowest.Max() : (0, "");
            Console.WriteLine($"| {path} | {string.Join(", ", times.Select(t => $"{t:N0}"))} | {ms:N0} ms {call} |");
        }
    }
}
