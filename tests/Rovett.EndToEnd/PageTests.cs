using System.Text.Json.Nodes;
using System.Text.RegularExpressions;
using Microsoft.Playwright;
using Rovett.Client;
using Rovett.Testing;
using Shouldly;
using Xunit;

namespace Rovett.EndToEnd;

/// <summary>The console and the demo's crew page in headless Chromium.</summary>
public sealed class PageTests : IAsyncLifetime
{
    readonly string folder = Directory.CreateTempSubdirectory("rovett-pages-").FullName;
    ServiceProcess demo = null!;
    IPlaywright playwright = null!;
    IBrowser browser = null!;
    RovettClient backend = null!;

    public async ValueTask InitializeAsync()
    {
        // The demo stays after its story, and nothing happens then but what the tests do.
        demo = await ServiceProcess.Start(folder, ["--page-port", "0", "--pace", "0.01", "--stay", "--every", "0"], command: "demo");
        await Eventually.Holds(() => demo.Printed.Contains("All checks passed."), "the story has been told", 60);
        Assertions.SetDefaultExpectTimeout(20_000);
        backend = new RovettClient(demo.Url, (string)demo.Ready["adminKey"]!);
        playwright = await Playwright.CreateAsync();
        browser = await Chromium.Launch(playwright);
    }

    public async ValueTask DisposeAsync()
    {
        await browser.DisposeAsync();
        playwright.Dispose();
        backend.Dispose();
        demo.Dispose();
        Directory.Delete(folder, recursive: true);
    }

    async Task<IPage> Open(string address, List<string> errors, IBrowserContext? profile = null)
    {
        profile ??= await browser.NewContextAsync(
            new BrowserNewContextOptions { ViewportSize = new ViewportSize { Width = 1280, Height = 800 } });
        var page = await profile.NewPageAsync();
        page.PageError += (_, error) => errors.Add(error);
        page.Console += (_, message) =>
        {
            if (message.Type == "error" && !message.Text.StartsWith("WebSocket connection to", StringComparison.Ordinal))
            {
                errors.Add(message.Text);
            }
        };
        await page.GotoAsync(address);
        return page;
    }

    Task<JsonNode> Send(string to, string title) =>
        backend.Send(new JsonObject { ["to"] = new JsonArray(to), ["type"] = "test.happened", ["title"] = title });

    [Fact]
    public async Task The_reference_shows_every_operation_and_tries_one()
    {
        var errors = new List<string>();
        var page = await Open(new Uri(demo.Url, "/reference").ToString(), errors);
        await Assertions.Expect(page.Locator("#operations-Notifications-sendNotification")).ToContainTextAsync("Sends a notification, or several.");
        using var http = new HttpClient();
        var document = JsonNode.Parse(await http.GetStringAsync(new Uri(demo.Url, "/v1/openapi.json")))!;
        int operations = document["paths"]!.AsObject().Sum(p => p.Value!.AsObject().Count);
        await Assertions.Expect(page.Locator(".opblock")).ToHaveCountAsync(operations);

        var ready = page.Locator("#operations-Operation-checkReady");
        await ready.Locator(".opblock-summary-control").ClickAsync();
        await ready.GetByRole(AriaRole.Button, new LocatorGetByRoleOptions { Name = "Try it out" }).ClickAsync();
        await ready.GetByRole(AriaRole.Button, new LocatorGetByRoleOptions { Name = "Execute" }).ClickAsync();
        await Assertions.Expect(ready.Locator(".live-responses-table .response-col_status").Last).ToContainTextAsync("200");
        errors.ShouldBeEmpty();
    }

    [Fact]
    public async Task The_console_lets_in_nothing_but_its_own_and_each_answer_has_its_own_number()
    {
        using var http = new HttpClient();
        var seen = new HashSet<string>();
        for (int i = 0; i < 2; i++)
        {
            using var answer = await http.GetAsync(new Uri(demo.Url, "/console"));
            var policy = answer.Headers.GetValues("Content-Security-Policy").Single();
            policy.ShouldNotContain("unsafe");
            policy.ShouldContain("default-src 'none'");
            policy.ShouldContain("frame-ancestors 'none'");
            var nonce = Regex.Match(policy, "'nonce-([A-Za-z0-9_-]{20,})'").Groups[1].Value;
            seen.Add(nonce).ShouldBeTrue();
            (await answer.Content.ReadAsStringAsync()).ShouldContain($"content=\"{nonce}\"");
        }
    }

    [Fact]
    public async Task The_crew_page_shows_each_person_their_own_with_one_count_over_devices_and_goes_on_without_WebSockets()
    {
        var errors = new List<string>();
        var page = await Open((string)demo.Ready["crew"]!, errors);
        ILocator Device(string name) => page.Locator($"[data-device={name}]");
        foreach (var name in new[] { "mara-desk", "mara-phone", "teo-phone" })
        {
            await Assertions.Expect(Device(name).Locator("[data-state=live]")).ToBeVisibleAsync();
        }
        await Assertions.Expect(Device("mara-desk").Locator("[data-transport=WebSocket]")).ToBeVisibleAsync();
        async Task<int> Unread(string name) => int.Parse((await Device(name).Locator("[data-unread]").GetAttributeAsync("data-unread"))!);

        // Once, on two devices.
        await Assertions.Expect(Device("mara-phone").Locator("[data-here='1']")).ToContainTextAsync("engineer here now: Mara Quill");
        await Device("mara-phone").GetByText("mark all read").ClickAsync();
        foreach (var name in new[] { "mara-desk", "mara-phone" })
        {
            await Assertions.Expect(Device(name).Locator("[data-unread='0']")).ToBeVisibleAsync();
        }
        int teo = await Unread("teo-phone");
        await Send("role:engineer", "Only for engineers");
        foreach (var name in new[] { "mara-desk", "mara-phone" })
        {
            await Assertions.Expect(Device(name).Locator("[data-unread='1']")).ToBeVisibleAsync();
            await Assertions.Expect(Device(name).Locator("[data-item]").First).ToContainTextAsync("Only for engineers");
        }

        // The upgrade fails: on over server-sent events, with what came meanwhile.
        await Device("mara-desk").GetByLabel("block WebSocket").ClickAsync(new LocatorClickOptions { Force = true });
        await Assertions.Expect(Device("mara-desk").Locator("[data-transport='server-sent events']")).ToBeVisibleAsync();
        await Send("user:mara", "Over events <img src=x onerror=alert(1)>");
        await Assertions.Expect(Device("mara-desk").Locator("[data-item]").First).ToContainTextAsync("Over events <img");

        // Offline, caught up in order, nothing twice.
        await Device("mara-phone").GetByLabel("online").ClickAsync(new LocatorClickOptions { Force = true });
        await Assertions.Expect(Device("mara-phone").Locator("[data-state=offline]")).ToBeVisibleAsync();
        for (int i = 1; i <= 3; i++) await Send("role:engineer", $"While away {i}");
        await Device("mara-phone").GetByLabel("online").ClickAsync(new LocatorClickOptions { Force = true });
        await Assertions.Expect(Device("mara-phone").Locator("[data-state=live]")).ToBeVisibleAsync();
        foreach (var name in new[] { "mara-phone", "mara-desk" })
        {
            await Assertions.Expect(Device(name).Locator("[data-item]").Filter(new LocatorFilterOptions { HasText = "While away 3" }))
                .ToBeVisibleAsync();
            var titles = (await Device(name).Locator("[data-item]").AllInnerTextsAsync()).Select(
                t => Regex.Match(t, "While away \\d|Over events|Only for engineers").Value).Where(t => t.Length > 0).ToList();
            titles.ShouldBe(["While away 3", "While away 2", "While away 1", "Over events", "Only for engineers"], name);
        }
        (await Device("teo-phone").InnerTextAsync()).ShouldNotContain("Only for engineers");
        (await Device("teo-phone").InnerTextAsync()).ShouldNotContain("While away");
        (await Unread("teo-phone")).ShouldBe(teo);

        // The switch is the service's: a page that is opened later shows it as it stands.
        var later = await Open((string)demo.Ready["crew"]!, errors);
        await Assertions.Expect(later.Locator("[data-device=mara-desk]").GetByLabel("block WebSocket")).ToBeCheckedAsync();
        await Assertions.Expect(later.Locator("[data-device=mara-phone]").GetByLabel("block WebSocket")).Not.ToBeCheckedAsync();
        errors.ShouldBeEmpty();
    }

    [Fact]
    public async Task A_bell_and_an_inbox_with_and_without_React_show_the_same()
    {
        var errors = new List<string>();
        var page = await Open((string)demo.Ready["crew"]! + "small.html", errors);
        var react = page.Locator("#react");
        var element = page.Locator("rovett-bell");
        async Task Unread(int count)
        {
            await Assertions.Expect(
                react.GetByRole(AriaRole.Button, new LocatorGetByRoleOptions { Name = $"Notifications, {count} unread" }))
                .ToBeVisibleAsync();
            await Assertions.Expect(
                element.GetByRole(AriaRole.Button, new LocatorGetByRoleOptions { Name = $"Notifications, {count} unread" }))
                .ToBeVisibleAsync();
        }
        await Assertions.Expect(element).ToHaveAttributeAsync("data-unread", new Regex("\\d+"));
        int before = int.Parse((await element.GetAttributeAsync("data-unread"))!);
        await Unread(before);
        await react.GetByRole(AriaRole.Button, new LocatorGetByRoleOptions { NameRegex = new Regex("^Notifications") }).ClickAsync();
        await element.GetByRole(AriaRole.Button, new LocatorGetByRoleOptions { NameRegex = new Regex("^Notifications") }).ClickAsync();
        await Send("user:mara", "For both <img src=x onerror=alert(1)>");
        await Unread(before + 1);
        await Assertions.Expect(react.Locator("[data-part=item]").First).ToContainTextAsync("For both <img");
        await Assertions.Expect(element.Locator("[part~=item]").First).ToContainTextAsync("For both <img");
        await element.GetByRole(AriaRole.Button, new LocatorGetByRoleOptions { NameRegex = new Regex("^Mark read: For both") })
            .ClickAsync();
        await Unread(before);
        await Assertions.Expect(react.Locator("[data-part=item]").First).Not.ToHaveAttributeAsync("data-unread", new Regex(".*"));
        await react.GetByText("Mark all read").ClickAsync();
        await Unread(0);
        await Assertions.Expect(element.GetByText("Mark all read")).ToBeDisabledAsync();
        int shown = await react.Locator("[data-part=item]").CountAsync();
        await react.GetByText("Load older").ClickAsync();
        await Eventually.Holds(async () => await react.Locator("[data-part=item]").CountAsync(), count => count > shown,
            "older ones are shown");
        await Assertions.Expect(react.GetByText("Nothing is muted.")).ToBeVisibleAsync();
        errors.ShouldBeEmpty();
    }

    [Fact]
    public async Task A_page_without_a_bundler_has_a_bell_that_says_when_there_is_no_token_and_comes_right_by_itself()
    {
        var profile =
            await browser.NewContextAsync(new BrowserNewContextOptions { ViewportSize = new ViewportSize { Width = 1280, Height = 800 } });
        var page = await profile.NewPageAsync();
        int asked = 0;
        bool isUp = false;
        var at = new Uri(demo.Url, "/v1/a-page-of-theirs").ToString();
        await page.RouteAsync(at, route => route.FulfillAsync(new RouteFulfillOptions
        {
            ContentType = "text/html",
            Body = """<!doctype html><title>Ferries</title><script type="module" src="/rovett.js"></script><rovett-bell token-from="/my-token" inbox></rovett-bell>""",
        }));
        await page.RouteAsync("**/my-token", route =>
        {
            asked++;
            return route.FulfillAsync(isUp
                ? new RouteFulfillOptions { Body = TestTokens.Make((string)demo.Ready["tokenSigningSecret"]!, "lou", []) }
                : new RouteFulfillOptions
                {
                    Status = asked == 1 ? 502 : 200,
                    ContentType = "text/html",
                    Body = "<!doctype html><title>Sign in</title>"
                });
        });
        await page.GotoAsync(at);
        var bell = page.Locator("rovett-bell");
        await bell.GetByRole(AriaRole.Button).First.ClickAsync();
        await Assertions.Expect(bell.Locator("[part=error]")).ToHaveTextAsync("The notifications can’t be read now.");
        await Assertions.Expect(bell.GetByText("No notifications yet.")).ToHaveCountAsync(0);
        await Eventually.Holds(() => asked >= 2, "it asks again by itself");
        (await bell.GetAttributeAsync("data-phase")).ShouldNotBe("refused");
        isUp = true;
        await bell.GetByText("Try again").ClickAsync();
        await Assertions.Expect(bell).ToHaveAttributeAsync("data-phase", "live");
        await Assertions.Expect(bell.GetByText("fog bank until 11:30", new LocatorGetByTextOptions { Exact = false }).First)
            .ToBeVisibleAsync();
        await Assertions.Expect(bell.Locator("[part=error]")).ToHaveCountAsync(0);
        await Send("user:lou", "For the page without a bundler");
        await Assertions.Expect(bell.Locator("[part~=item]").First).ToContainTextAsync("For the page without a bundler");
        await profile.CloseAsync();
    }

    async Task<int> Sessions(string device) =>
        (await backend.Call(HttpMethod.Get, "/v1/sessions"))!["sessions"]!.AsArray().Count(s => (string)s!["device"]! == device);

    [Fact]
    public async Task Tabs_of_one_browser_share_a_connection_and_another_takes_over_when_the_connected_one_closes_freezes_or_hangs()
    {
        const string Desk = "[data-device=mara-desk]";
        var errors = new List<string>();
        var profile = await browser.NewContextAsync();
        int sent = 0;
        async Task Reaches(params IPage[] pages)
        {
            await Send("user:mara", $"For every tab {++sent}");
            foreach (var page in pages)
            {
                await Assertions.Expect(page.Locator($"{Desk} [data-item]").First).ToContainTextAsync($"For every tab {sent}");
                for (int i = 1; i <= sent; i++)
                {
                    await Assertions.Expect(page.Locator($"{Desk} [data-item] [title='For every tab {i}']")).ToHaveCountAsync(1);
                }
            }
            var counts = new List<string?>();
            foreach (var page in pages) counts.Add(await page.Locator($"{Desk} [data-unread]").GetAttributeAsync("data-unread"));
            counts.Distinct().Count().ShouldBe(1);
            await Eventually.Holds(async () => await Sessions("crew-mara-desk"), count => count == 1, "one session for all tabs");
        }
        async Task<IPage> Tab()
        {
            var page = await Open((string)demo.Ready["crew"]!, errors, profile);
            await Assertions.Expect(page.Locator($"{Desk} [data-state=live]")).ToBeVisibleAsync();
            return page;
        }
        Task IsConnected(IPage page) => Assertions.Expect(page.Locator($"{Desk} [data-through='']")).ToBeVisibleAsync();
        var first = await Tab();
        var second = await Tab();
        await IsConnected(first);
        await Assertions.Expect(second.Locator($"{Desk} [data-through='another tab']")).ToBeVisibleAsync();
        await Reaches(first, second);
        await second.Locator(Desk).GetByText("mark all read").ClickAsync();
        await Assertions.Expect(first.Locator($"{Desk} [data-unread='0']")).ToBeVisibleAsync();

        await first.CloseAsync();
        await IsConnected(second);
        var third = await Tab();
        await Reaches(second, third);

        // Frozen it keeps nobody from being served, and has everything once it thaws. (A headless browser freezes nothing that is on
        // view; the page is told what it would be told.)
        await second.EvaluateAsync("document.dispatchEvent(new Event('freeze'))");
        await IsConnected(third);
        await Assertions.Expect(second.Locator($"{Desk} [data-state=offline]")).ToBeVisibleAsync();
        await Reaches(third);
        await second.EvaluateAsync("document.dispatchEvent(new Event('resume'))");
        await Reaches(second, third);

        // It hangs: it holds its lock, and answers nobody.
        _ = third.EvaluateAsync("() => { for (const end = Date.now() + 14000; Date.now() < end;); }")
            .ContinueWith(t => _ = t.Exception, TaskContinuationOptions.OnlyOnFaulted);
        await second.BringToFrontAsync();
        await IsConnected(second);
        await Send("user:mara", $"For every tab {++sent}");
        await Assertions.Expect(second.Locator($"{Desk} [data-item]").First).ToContainTextAsync($"For every tab {sent}");
        await Assertions.Expect(third.Locator($"{Desk} [data-through='another tab']"))
            .ToBeVisibleAsync(new LocatorAssertionsToBeVisibleOptions { Timeout = 40_000 });
        await Reaches(second, third);

        // Another browser profile of the same person has its own.
        var elsewhere = await Open((string)demo.Ready["crew"]!, errors);
        await IsConnected(elsewhere);
        errors.ShouldBeEmpty();
    }

    [Fact]
    public async Task The_console_shows_what_arrives_who_has_it_and_who_is_connected_as_it_happens()
    {
        var errors = new List<string>();
        var page = await Open((string)demo.Ready["console"]!, errors);
        await page.GetByLabel("Name").FillAsync("ruth");
        await page.GetByRole(AriaRole.Textbox, new PageGetByRoleOptions { Name = "Password" }).FillAsync("marrow sound");
        await page.GetByRole(AriaRole.Button, new PageGetByRoleOptions { Name = "Sign up" }).ClickAsync();
        await Assertions.Expect(page.GetByText("live since")).ToBeVisibleAsync();
        page.Url.ShouldNotContain("sign-up");

        var sent = await Send("user:pia", "Berth 6 is free again");
        var row = page.Locator($"[data-id='{sent["id"]}']");
        async Task Shows(int dispatched, int received, int read)
        {
            var cells = row.Locator("td");
            await Assertions.Expect(cells.Nth(3)).ToHaveTextAsync($"{dispatched}");
            await Assertions.Expect(cells.Nth(4)).ToHaveTextAsync($"{received}");
            await Assertions.Expect(cells.Nth(5)).ToHaveTextAsync($"{read}");
        }
        await Assertions.Expect(row).ToContainTextAsync("Berth 6 is free again");
        await Shows(0, 0, 0);

        var token = TestTokens.Make((string)demo.Ready["tokenSigningSecret"]!, "pia", ["harbour-desk"]);
        using var pia = await RawWebSocket.Connect(demo.Url.Port, "/v1/live?label=harbour%20desk", token);
        string cursor;
        JsonObject message;
        do
        {
            message = await pia.Next("notification");
            cursor = (string)message["cursor"]!;
        }
        while ((string)message["title"]! != "Berth 6 is free again");
        await Shows(1, 0, 0);
        await Assertions.Expect(page.GetByText("harbour desk", new PageGetByTextOptions { Exact = true })).ToBeVisibleAsync();
        await pia.Text($$"""{"kind":"ack","upTo":"{{cursor}}"}""");
        await Shows(1, 1, 0);
        await pia.Text($$"""{"kind":"markRead","ids":["{{sent["id"]}}"]}""");
        await Shows(1, 1, 1);
        pia.Cut();
        await Assertions.Expect(page.GetByText("harbour desk", new PageGetByTextOptions { Exact = true })).ToBeHiddenAsync();

        // What was taken back stands there as that; and who asks again and again is counted as that.
        await backend.Call(HttpMethod.Delete, $"/v1/notifications/{sent["id"]}");
        await Assertions.Expect(row.GetByText("withdrawn")).ToBeVisibleAsync();
        using (var poll = new LiveConnection(demo.Url, _ => new ValueTask<string>(token),
            new LiveOptions { Transport = LiveTransport.LongPoll, Label = "buoy tender" }))
        {
            using var over = new CancellationTokenSource();
            var reading = Task.Run(async () =>
            {
                await foreach (var _ in poll.Messages(over.Token)) { }
            });
            await Assertions.Expect(page.GetByRole(AriaRole.Row).Filter(new LocatorFilterOptions { HasText = "buoy tender" })
                .GetByText("long poll")).ToBeVisibleAsync();
            await Assertions.Expect(page.GetByText(new Regex(", 1 by long poll"))).ToBeVisibleAsync();
            await over.CancelAsync();
            await Should.ThrowAsync<OperationCanceledException>(() => reading);
        }

        // Who may, and why; who signed in.
        await page.GetByText("Access", new PageGetByTextOptions { Exact = true }).ClickAsync();
        await page.GetByPlaceholder("teo").FillAsync("teo");
        await page.GetByPlaceholder("topic:berth/3").FillAsync("topic:berth/3");
        await page.GetByRole(AriaRole.Button, new PageGetByRoleOptions { Name = "Explain" }).ClickAsync();
        await Assertions.Expect(page.GetByText("teo is not on the channel of topic:berth/3 now.")).ToBeVisibleAsync();
        await Assertions.Expect(page.GetByText("topic.refused · topic:berth/3").First).ToBeVisibleAsync();
        await page.GetByText("Operators", new PageGetByTextOptions { Exact = true }).ClickAsync();
        await page.GetByRole(AriaRole.Button, new PageGetByRoleOptions { Name = "Invite to view" }).ClickAsync();
        await Assertions.Expect(page.GetByText("A link that works once")).ToBeVisibleAsync();
        await Assertions.Expect(page.GetByText("may operate", new PageGetByTextOptions { Exact = true })).ToBeVisibleAsync();
        await page.GetByText("Activity", new PageGetByTextOptions { Exact = true }).ClickAsync();
        await Assertions.Expect(page.GetByText("live since")).ToBeVisibleAsync();

        // Signed out, signed in again by password; the link is used up.
        await page.GetByRole(AriaRole.Button, new PageGetByRoleOptions { Name = "Sign out", Exact = true }).ClickAsync();
        await page.GetByLabel("Name").FillAsync("ruth");
        await page.GetByRole(AriaRole.Textbox, new PageGetByRoleOptions { Name = "Password" }).FillAsync("not the password");
        await page.GetByRole(AriaRole.Button, new PageGetByRoleOptions { Name = "Sign in" }).ClickAsync();
        await Assertions.Expect(page.GetByText("Wrong name or password")).ToBeVisibleAsync();
        await page.GetByRole(AriaRole.Textbox, new PageGetByRoleOptions { Name = "Password" }).FillAsync("marrow sound");
        await page.GetByRole(AriaRole.Button, new PageGetByRoleOptions { Name = "Sign in" }).ClickAsync();
        await Assertions.Expect(page.GetByText("live since")).ToBeVisibleAsync();

        // A service that is gone looks different from a quiet one.
        await demo.Kill();
        await Assertions.Expect(page.GetByText("no connection to the service since")).ToBeVisibleAsync();
        errors.Where(e => !e.Contains("401") && !e.Contains("ERR_")).ShouldBeEmpty();
    }
}
