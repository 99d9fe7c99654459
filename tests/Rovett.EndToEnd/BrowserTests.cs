using System.Diagnostics;
using System.Text.Json;
using System.Text.Json.Nodes;
using System.Text.RegularExpressions;
using Microsoft.AspNetCore.Builder;
using Microsoft.AspNetCore.Hosting;
using Microsoft.AspNetCore.Http;
using Microsoft.Extensions.Logging;
using Microsoft.Playwright;
using Rovett.Client;
using Rovett.Testing;
using Shouldly;
using Xunit;

namespace Rovett.EndToEnd;

/// <summary>A page of an application in headless Chromium, with the client library as it is built, behind a network
/// that fails: nothing is lost or
/// doubled, the count is right and never goes back, and the page knows how it stands.</summary>
public sealed class BrowserTests : IAsyncLifetime
{
    const string Page = """
        <!doctype html><title>harbour desk</title>
        <script type="module">
          import { connect } from '/client/index.js';
          import { connectShared } from '/client/shared.js';
          const settings = { retryMs: { min: 20, max: 300 }, upgradeMs: 400 };
          // What a page sees of one connection, in order.
          window.begin = (url, user, shared = false) => {
            const seen = { titles: [], totals: [], phases: [], gaps: [], whys: [] };
            const token = async () => (await fetch('/token?user=' + user)).text();
            const live = (shared ? connectShared : connect)({ url, token, ...settings, report: (what) => seen.whys.push(String(what)) });
            live.on('*', (n) => void seen.titles.push(n.title));
            live.onChange((change) => { if (change.kind === 'gap') seen.gaps.push(change.reason); });
            live.totals.subscribe(() => seen.totals.push(live.totals.value));
            live.state.subscribe(() => {
              if (seen.phases.at(-1) !== live.state.value.phase) seen.phases.push(live.state.value.phase);
              if (live.state.value.why) seen.whys.push(live.state.value.why);
            });
            Object.assign(window, { live, seen });
          };
          window.look = () => ({ ...seen, unread: live.totals.value?.unread ?? null, phase: live.state.value.phase, transport: live.state.value.transport, tried: live.state.value.tried });
        </script>
        """;

    readonly string folder = Directory.CreateTempSubdirectory("rovett-browser-").FullName;
    readonly Relay relay = new(1);
    readonly List<string> errors = [];
    readonly WebApplication application = Application();
    ServiceProcess service = null!;
    RovettClient backend = null!;
    IPlaywright playwright = null!;
    IBrowser browser = null!;
    IBrowserContext profile = null!;
    string secret = "";
    TimeSpan lifetime = TimeSpan.FromHours(1);
    int tokens;

    public async ValueTask InitializeAsync()
    {
        application.MapGet("/", () => Results.Content(Page, "text/html"));
        application.MapGet("/client/{file}",
            (string file) => Results.File(Path.Combine(ServiceProcess.Root, "clients", "typescript", "dist", file), "text/javascript"));
        application.MapGet("/token", (string user = "mara") =>
        {
            Interlocked.Increment(ref tokens);
            return TestTokens.Make(secret, user, ["engineer"], lifetime);
        });
        application.MapGet("/ticket",
            async () => Results.Content(
            await (await Post(service.Url, "v1/tickets", TestTokens.Make(secret, "mara", ["engineer"]), "{}")).Content.ReadAsStringAsync(),
            "application/json"));
        await application.StartAsync();
        await StartService();
        playwright = await Playwright.CreateAsync();
        browser = await Chromium.Launch(playwright);
        profile = await browser.NewContextAsync();
    }

    public async ValueTask DisposeAsync()
    {
        await browser.DisposeAsync();
        playwright.Dispose();
        backend.Dispose();
        service.Dispose();
        relay.Dispose();
        await application.DisposeAsync();
        Directory.Delete(folder, recursive: true);
    }

    async Task StartService()
    {
        service = await ServiceProcess.Start(folder, ["--origins", Origin, "--come-back-within-ms", "400", "--heartbeat-seconds", "1"]);
        if ((string?)service.Ready["credentials"]?["tokenSigningSecret"] is { } made) secret = made;
        var key = (string?)service.Ready["credentials"]?["adminKey"];
        backend = new RovettClient(service.Url, key ?? Key);
        Key = key ?? Key;
        relay.Port = service.Url.Port;
    }

    string Key { get; set; } = "";

    static WebApplication Application()
    {
        var builder = WebApplication.CreateSlimBuilder();
        builder.WebHost.UseUrls("http://127.0.0.1:0");
        builder.Logging.ClearProviders();
        return builder.Build();
    }

    /// <summary>Where the application's pages are, as browsers write it.</summary>
    string Origin => application.Urls.Single();

    async Task<IPage> Open(string user, bool shared = false)
    {
        var page = await profile.NewPageAsync();
        page.PageError += (_, error) => errors.Add(error);
        await page.GotoAsync(Origin);
        await Begin(page, user, shared);
        return page;
    }

    Task Begin(IPage page, string user, bool shared = false) =>
        page.EvaluateAsync($"begin('{relay.Url.ToString().TrimEnd('/')}', '{user}', {(shared ? "true" : "false")})");

    static async Task<JsonNode> Look(IPage page) => JsonNode.Parse(await page.EvaluateAsync<string>("JSON.stringify(look())"))!;

    static string[] Titles(JsonNode seen) => [.. seen["titles"]!.AsArray().Select(t => (string)t!)];

    static Task Is(IPage page, string phase, string? transport = null, int seconds = 20) =>
        Eventually.Holds(() => Look(page), s => (string)s["phase"]! == phase && (transport is null || (string?)s["transport"] == transport),
        $"{phase} {transport}", seconds);

    Task<JsonNode> Send(string to, string title) =>
        backend.Send(new JsonObject { ["to"] = new JsonArray(to), ["type"] = "berth.changed", ["title"] = title });

    /// <summary>Everything that was sent is there, once, in order, and counted; and no total was ever staler than the one before.</summary>
    static async Task HasAll(IPage page, IReadOnlyCollection<string> sent, int? unread = null)
    {
        await Eventually.Holds(() => Look(page),
            s => s["titles"]!.AsArray().Count >= sent.Count && (int?)s["unread"] == (unread ?? sent.Count),
            $"{sent.Count} came and are counted");
        var seen = await Look(page);
        Titles(seen).ShouldBe(sent);
        var totals = seen["totals"]!.AsArray().OfType<JsonObject>().Select(t => ((string)t["asOf"]!, (long)t["rev"]!)).ToList();
        totals.Zip(totals.Skip(1))
            .ShouldAllBe(pair => string.CompareOrdinal(pair.First.Item1, pair.Second.Item1) <= 0 && pair.First.Item2 <= pair.Second.Item2);
    }

    [Fact]
    public async Task Killed_cut_silenced_stripped_and_buffered_nothing_is_lost_or_doubled_and_the_page_says_how_it_stands()
    {
        var page = await Open("mara");
        await Is(page, "live", "websocket");
        var sent = new List<string>();
        async Task Both(int count)
        {
            for (int i = 0; i < count; i++)
            {
                sent.Add($"{sent.Count + 1}");
                await Send(sent.Count % 2 == 0 ? "user:mara" : "role:engineer", sent[^1]);
            }
        }
        await Both(5);
        await HasAll(page, sent);

        // Killed in the middle; what is sent when it is back comes too.
        await Both(3);
        await service.Kill();
        await Is(page, "offline");
        service.Dispose();
        backend.Dispose();
        await StartService();
        await Both(3);
        await Is(page, "live", "websocket");
        await HasAll(page, sent);

        // Cut without a word, again and again.
        for (int i = 0; i < 4; i++)
        {
            await Both(2);
            relay.Cut();
            await Both(2);
        }
        await HasAll(page, sent);

        // Nothing passes any more, and nobody says so: noticed by the heartbeats that do not come.
        relay.Silence();
        await Both(3);
        await HasAll(page, sent);

        // No upgrades any more, then streams held back as well: the next transport.
        relay.StripsUpgrades = true;
        relay.Cut();
        await Both(3);
        await Is(page, "live", "sse");
        await HasAll(page, sent);
        relay.BuffersStreams = true;
        relay.Cut();
        await Both(3);
        await Is(page, "live", "long-poll");
        await HasAll(page, sent);
        var tried = (await Look(page))["tried"]!.AsArray().Select(t => (string)t!["transport"]!).ToList();
        tried.ShouldContain("long-poll");

        // And back up, once it works.
        relay.StripsUpgrades = relay.BuffersStreams = false;
        await Both(3);
        await Is(page, "live", "websocket");
        await Both(3);
        await HasAll(page, sent);
        await page.EvaluateAsync("live.inbox.markRead({ all: true })");
        await HasAll(page, sent, unread: 0);
        errors.ShouldBeEmpty();
    }

    [Fact]
    public async Task Tokens_that_end_are_renewed_and_while_there_is_none_the_page_says_why()
    {
        lifetime = TimeSpan.FromSeconds(4);
        var page = await Open("mara");
        await Is(page, "live");
        var sent = new List<string>();
        for (int i = 1; tokens < 4; i++)
        {
            await Send("user:mara", $"{i}");
            sent.Add($"{i}");
            await Eventually.Holds(() => Look(page), s => s["titles"]!.AsArray().Count == sent.Count, "it came");
            int before = tokens;
            if (i % 5 == 0) await Eventually.Holds(() => tokens > before, "another token is asked for", 20);
        }
        await HasAll(page, sent);
        (await Look(page))["phases"]!.AsArray().Select(p => (string)p!).ShouldNotContain("refused");

        // The application's sign-in has ended, and it only has tokens that are over: it says why, and asks again.
        // Signed in again, it goes on by itself.
        lifetime = TimeSpan.FromSeconds(-60);
        int asked = tokens;
        await Eventually.Holds(() => Look(page),
            s => tokens >= asked + 3 && s["whys"]!.AsArray() is [.., var why]
            && why!.ToString().Contains("token", StringComparison.OrdinalIgnoreCase), "it says why, and asks again", 30);
        (await Look(page))["phases"]!.AsArray().Select(p => (string)p!).ShouldNotContain("refused");
        await Send("user:mara", "meanwhile");
        lifetime = TimeSpan.FromHours(1);
        await Is(page, "live", seconds: 40);
        await HasAll(page, [.. sent, "meanwhile"], unread: sent.Count + 1);
        errors.ShouldBeEmpty();
    }

    [Fact]
    public async Task After_the_data_folder_is_deleted_the_page_hears_of_the_gap_and_goes_on_with_the_right_count()
    {
        var page = await Open("mara");
        await Is(page, "live");
        for (int i = 1; i <= 3; i++) await Send("user:mara", $"{i}");
        await HasAll(page, ["1", "2", "3"]);

        await service.Kill();
        Directory.Delete(Path.Combine(folder, "data"), recursive: true);
        service.Dispose();
        backend.Dispose();
        await StartService();
        await Send("user:mara", "of another life");
        await Is(page, "live");
        await Eventually.Holds(() => Look(page), s => Titles(s).Length == 4 && (int?)s["unread"] == 1,
            "what is new is there, and counted alone");
        var seen = await Look(page);
        Titles(seen).ShouldBe(["1", "2", "3", "of another life"]);
        seen["gaps"]!.ToJsonString().ShouldBe("""["new-life"]""");
        await page.EvaluateAsync("live.inbox.markRead({ all: true })");
        await Eventually.Holds(() => Look(page), s => (int?)s["unread"] == 0, "counted down");
        errors.ShouldBeEmpty();
    }

    [Fact]
    public async Task Who_signs_in_after_somebody_else_in_the_same_browser_gets_nothing_of_theirs()
    {
        var first = await Open("mara", shared: true);
        var second = await Open("mara", shared: true);
        foreach (var page in new[] { first, second }) await Is(page, "live");
        var id = (string)(await Send("user:mara", "for mara"))["id"]!;
        foreach (var page in new[] { first, second }) await HasAll(page, ["for mara"]);
        // A busy machine may take longer to store the acknowledgement than signing out waits for it.
        await Eventually.Holds(() => backend.Call(HttpMethod.Get, $"/v1/notifications/{id}"), n => (int)n["people"]!["received"]! == 1,
            "it is acknowledged");

        await first.EvaluateAsync("live.signOut()");
        foreach (var page in new[] { first, second }) await Is(page, "closed");
        await Send("user:mara", "while signed out");
        foreach (var page in new[] { first, second }) await Begin(page, "teo", shared: true);
        foreach (var page in new[] { first, second }) await Is(page, "live");
        await Send("user:mara", "for mara again");
        await Send("user:teo", "for teo");
        foreach (var page in new[] { first, second }) await HasAll(page, ["for teo"]);

        // Both at once, in tabs side by side.
        var third = await Open("mara", shared: true);
        await HasAll(third, ["while signed out", "for mara again"], unread: 3);
        await Send("role:engineer", "for both");
        await HasAll(third, ["while signed out", "for mara again", "for both"], unread: 4);
        foreach (var page in new[] { first, second }) await HasAll(page, ["for teo", "for both"]);
        errors.ShouldBeEmpty();
    }

    static readonly HttpClient http = new();

    static async Task<HttpResponseMessage> Post(Uri service, string path, string token, string body)
    {
        using var request = new HttpRequestMessage(HttpMethod.Post, new Uri(service, path))
        { Content = new StringContent(body, null, "application/json") };
        request.Headers.Authorization = new("Bearer", token);
        return await http.SendAsync(request);
    }

    /// <summary>The code under a heading of the page that says how to do without our clients.</summary>
    static string[] Code(string heading)
    {
        var text = File.ReadAllText(Path.Combine(ServiceProcess.Root, "docs", "without-a-client.md"));
        var part = text.Split("\n## ").Single(p => p.StartsWith(heading + "\n", StringComparison.Ordinal));
        return [.. Regex.Matches(part, "```\\w+\n(.*?)```", RegexOptions.Singleline).Select(m => m.Groups[1].Value)];
    }

    async Task<int> Received(string title)
    {
        using var user = new RovettClient(service.Url, TestTokens.Make(secret, "mara", ["engineer"]));
        return (await user.Call(HttpMethod.Get, "/v1/inbox"))["items"]!.AsArray()
            .Count(i => (string)i!["title"]! == title && i["state"]!["received"] is not null);
    }

    [Theory]
    [InlineData("EventSource")]
    [InlineData("WebSocket")]
    public async Task A_page_without_our_client_loses_and_doubles_nothing_with_the_lines_that_are_documented(string kind)
    {
        var page = await profile.NewPageAsync();
        page.PageError += (_, error) => errors.Add(error);
        await page.GotoAsync(Origin);
        await page.EvaluateAsync($$"""
            () => {
              window.titles = [];
              window.service = '{{relay.Url.ToString().TrimEnd('/')}}';
              window.show = (title, unread) => { titles.push(title); window.unread = unread; };
              const script = document.createElement('script');
              script.type = 'module';
              script.textContent = {{JsonSerializer.Serialize(Code(kind).Single())}};
              document.body.append(script);
            }
            """);
        var sent = new List<string>();
        for (int round = 0; round < 4; round++)
        {
            for (int i = 0; i < 3; i++)
            {
                sent.Add($"{sent.Count + 1}");
                await Send("user:mara", sent[^1]);
                if (i == 1 && round > 0) relay.Cut();
            }
            await Eventually.Holds(() => page.EvaluateAsync<string[]>("titles"), t => t.Length >= sent.Count, "all are shown");
            (await page.EvaluateAsync<string[]>("titles")).ShouldBe(sent);
            await Eventually.Holds(() => page.EvaluateAsync<int>("unread"), u => u == sent.Count, "and counted");
        }
        await Eventually.Holds(() => Received(sent[^1]), n => n == 1, "the last one is acknowledged");
        errors.ShouldBeEmpty();
    }

    [Fact]
    public async Task With_curl_alone_one_receives_acknowledges_and_goes_on()
    {
        var token = TestTokens.Make(secret, "mara", ["engineer"]);
        var code = Code("curl");
        for (int i = 1; i <= 2; i++) await Send("user:mara", $"{i}");
        var environment = new Dictionary<string, string>
        { ["TOKEN"] = token, ["ROVETT_URL"] = relay.Url.ToString().TrimEnd('/'), ["CURSOR"] = "" };
        using (var stream = Shell(code[0], environment))
        {
            var events = await Events(stream, 2);
            events.ConvertAll(e => (string?)e["title"]).ShouldBe([null, "1", "2"]);
            environment["SESSION"] = (string)events[0]["session"]!;
            environment["CURSOR"] = (string)events[1]["cursor"]!;
            using var ack = Shell(code[1], environment);
            await ack.WaitForExitAsync();
            ack.ExitCode.ShouldBe(0);
            await Eventually.Holds(() => Received("1"), n => n == 1, "it is acknowledged");
            stream.Kill(entireProcessTree: true);
        }
        await Send("user:mara", "3");
        environment["CURSOR"] = "";
        using (var again = Shell(code[0], environment))
        {
            (await Events(again, 2)).ConvertAll(e => (string?)e["title"]).ShouldBe([null, "2", "3"], "what no device acknowledged");
            again.Kill(entireProcessTree: true);
        }
    }

    static Process Shell(string script, IReadOnlyDictionary<string, string> environment)
    {
        var start = new ProcessStartInfo("bash", ["-c", script]) { RedirectStandardOutput = true };
        foreach (var (name, value) in environment) start.Environment[name] = value;
        return Process.Start(start)!;
    }

    /// <summary>`opened` and the notifications of a stream of events, until there are as many.</summary>
    static async Task<List<JsonNode>> Events(Process stream, int notifications)
    {
        using var limit = new CancellationTokenSource(TimeSpan.FromSeconds(20));
        var found = new List<JsonNode>();
        while (found.Count < notifications + 1 && await stream.StandardOutput.ReadLineAsync(limit.Token) is { } line)
        {
            if (!line.StartsWith("data: ", StringComparison.Ordinal)) continue;
            var message = JsonNode.Parse(line["data: ".Length..])!;
            if ((string)message["kind"]! is "opened" or "notification") found.Add(message);
        }
        return found;
    }
}
