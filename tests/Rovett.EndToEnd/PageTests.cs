using System.Text.Json.Nodes;
using System.Text.RegularExpressions;
using Microsoft.Playwright;
using Rovett.Testing;
using Shouldly;
using Xunit;

namespace Rovett.EndToEnd;

/// <summary>The demo's crew page, the reference and the console's policy in headless Chromium.</summary>
public sealed class PageTests(DemoGround ground) : DemoPages(ground), IClassFixture<DemoGround>
{
    [Fact]
    public async Task The_reference_shows_every_operation_and_tries_one()
    {
        var errors = new List<string>();
        var page = await Open(new Uri(demo.Url, "/reference").ToString(), errors);
        await Assertions.Expect(page.Locator("#operations-Notifications-sendNotification"))
            .ToContainTextAsync("Sends a notification, or several.");
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
        async Task<int> Unread(string name) => int.Parse((await Device(name).Locator("header[data-unread]").GetAttributeAsync("data-unread"))!);

        // Once, on two devices.
        await Assertions.Expect(page.Locator("[data-person=mara]")).ToContainTextAsync("On duty now: Mara Quill");
        await Device("mara-phone").GetByText("Mark all read").ClickAsync();
        foreach (var name in new[] { "mara-desk", "mara-phone" })
        {
            await Assertions.Expect(Device(name).Locator("header[data-unread='0']")).ToBeVisibleAsync();
        }
        int teo = await Unread("teo-phone");
        await Send("role:engineer", "Only for engineers");
        foreach (var name in new[] { "mara-desk", "mara-phone" })
        {
            await Assertions.Expect(Device(name).Locator("header[data-unread='1']")).ToBeVisibleAsync();
            await Assertions.Expect(Device(name).Locator("[data-part~=item]").First).ToContainTextAsync("Only for engineers");
        }

        // The upgrade fails: on over server-sent events, with what came meanwhile.
        await Device("mara-desk").GetByLabel("Block WebSocket").ClickAsync(new LocatorClickOptions { Force = true });
        await Assertions.Expect(Device("mara-desk").Locator("[data-transport='server-sent events']")).ToBeVisibleAsync();
        await Send("user:mara", "Over events <img src=x onerror=alert(1)>");
        await Assertions.Expect(Device("mara-desk").Locator("[data-part~=item]").First).ToContainTextAsync("Over events <img");

        await Assertions.Expect(Device("mara-desk").GetByText("WebSocket: the upgrade failed")).ToBeVisibleAsync();

        // Once it is let through again, WebSocket takes over, and the failure is no more the connection's.
        await Device("mara-desk").GetByLabel("Block WebSocket").ClickAsync(new LocatorClickOptions { Force = true });
        await Assertions.Expect(Device("mara-desk").GetByText("Live over WebSocket")).ToBeVisibleAsync();
        await Assertions.Expect(Device("mara-desk").GetByText("the upgrade failed")).ToHaveCountAsync(0);
        await Device("mara-desk").GetByLabel("Block WebSocket").ClickAsync(new LocatorClickOptions { Force = true });
        await Assertions.Expect(Device("mara-desk").GetByText("Live over server-sent events")).ToBeVisibleAsync();

        // Offline, caught up in order, nothing twice.
        await Device("mara-phone").GetByLabel("Offline").ClickAsync(new LocatorClickOptions { Force = true });
        await Assertions.Expect(Device("mara-phone").Locator("[data-state=offline]")).ToBeVisibleAsync();
        for (int i = 1; i <= 3; i++) await Send("role:engineer", $"While away {i}");
        await Device("mara-phone").GetByLabel("Offline").ClickAsync(new LocatorClickOptions { Force = true });
        await Assertions.Expect(Device("mara-phone").Locator("[data-state=live]")).ToBeVisibleAsync();
        foreach (var name in new[] { "mara-phone", "mara-desk" })
        {
            await Assertions.Expect(Device(name).Locator("[data-part~=item]").Filter(new LocatorFilterOptions { HasText = "While away 3" }))
                .ToBeVisibleAsync();
            var titles = (await Device(name).Locator("[data-part~=item]").AllInnerTextsAsync()).Select(
                t => Regex.Match(t, "While away \\d|Over events|Only for engineers").Value).Where(t => t.Length > 0).ToList();
            titles.ShouldBe(["While away 3", "While away 2", "While away 1", "Over events", "Only for engineers"], name);
        }
        (await Device("teo-phone").InnerTextAsync()).ShouldNotContain("Only for engineers");
        (await Device("teo-phone").InnerTextAsync()).ShouldNotContain("While away");
        (await Unread("teo-phone")).ShouldBe(teo);

        // A device more, and one less.
        await page.Locator("[data-person=teo]").GetByText("Add a device").ClickAsync();
        await Assertions.Expect(Device("teo-desk").Locator("[data-state=live]")).ToBeVisibleAsync();
        await Device("teo-phone").GetByText("Remove").ClickAsync();
        await Assertions.Expect(Device("teo-phone")).ToHaveCountAsync(0);
        await Assertions.Expect(Device("teo-desk").Locator("[data-state=live]")).ToBeVisibleAsync();

        // The switch is the service's: a page that is opened later shows it as it stands.
        var later = await Open((string)demo.Ready["crew"]!, errors);
        await Assertions.Expect(later.Locator("[data-device=mara-desk]").GetByLabel("Block WebSocket")).ToBeCheckedAsync();
        await Assertions.Expect(later.Locator("[data-device=mara-phone]").GetByLabel("Block WebSocket")).Not.ToBeCheckedAsync();
        await later.Locator("[data-device=mara-desk]").GetByLabel("Block WebSocket").ClickAsync(new LocatorClickOptions { Force = true });
        await Assertions.Expect(later.Locator("[data-device=mara-desk] [data-transport=WebSocket]"))
            .ToBeVisibleAsync(new LocatorAssertionsToBeVisibleOptions { Timeout = 60_000 });
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
            Body = """<!doctype html><title>Ferries</title><script type="module" src="/rovett.js"></script><rovett-bell token-from="/my-token" inbox></rovett-bell><rovett-topic topic="berth/3"></rovett-topic>""",
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
        int before = asked;
        await bell.GetByText("Try again").ClickAsync();
        await Eventually.Holds(() => asked > before, "it asks again when it is told to");
        isUp = true;
        await Assertions.Expect(bell).ToHaveAttributeAsync("data-phase", "live");
        await Assertions.Expect(bell.GetByText("fog bank until 11:30", new LocatorGetByTextOptions { Exact = false }).First)
            .ToBeVisibleAsync();
        await Assertions.Expect(bell.Locator("[part=error]")).ToHaveCountAsync(0);
        await Assertions.Expect(page.Locator("rovett-topic [part=error]")).ToContainTextAsync("To subscribe 'topic:berth/3' is refused");
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
                await Assertions.Expect(page.Locator($"{Desk} [data-part~=item]").First).ToContainTextAsync($"For every tab {sent}");
                for (int i = 1; i <= sent; i++)
                {
                    await Assertions.Expect(page.Locator($"{Desk} [data-part~=item]").GetByText($"For every tab {i}", new LocatorGetByTextOptions { Exact = true })).ToHaveCountAsync(1);
                }
            }
            var counts = new List<string?>();
            foreach (var page in pages) counts.Add(await page.Locator($"{Desk} header[data-unread]").GetAttributeAsync("data-unread"));
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
        await second.Locator(Desk).GetByText("Mark all read").ClickAsync();
        await Assertions.Expect(first.Locator($"{Desk} header[data-unread='0']")).ToBeVisibleAsync();

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
        await Assertions.Expect(second.Locator($"{Desk} [data-part~=item]").First).ToContainTextAsync($"For every tab {sent}");
        await Assertions.Expect(third.Locator($"{Desk} [data-through='another tab']"))
            .ToBeVisibleAsync(new LocatorAssertionsToBeVisibleOptions { Timeout = 40_000 });
        await Reaches(second, third);

        // Another browser profile of the same person has its own.
        var elsewhere = await Open((string)demo.Ready["crew"]!, errors);
        await IsConnected(elsewhere);
        errors.ShouldBeEmpty();
    }
}
