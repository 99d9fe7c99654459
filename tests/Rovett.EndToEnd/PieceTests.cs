using System.Net.Http.Headers;
using System.Text;
using System.Text.Json.Nodes;
using System.Text.RegularExpressions;
using Microsoft.Playwright;
using Rovett.Testing;
using Shouldly;
using Xunit;

namespace Rovett.EndToEnd;

/// <summary>The bell, the inbox, the choices and the toasts as elements, with React and with Vue.</summary>
public sealed class PieceTests(DemoGround ground) : DemoPages(ground), IClassFixture<DemoGround>
{
    string Pieces => (string)demo.Ready["crew"]! + "small.html";

    static ILocator Button(ILocator side, string name) =>
        side.GetByRole(AriaRole.Button, new LocatorGetByRoleOptions { NameRegex = new Regex(name) });

    static ILocatorAssertions Expect(ILocator what) => Assertions.Expect(what);

    [Fact]
    public async Task Choices_as_elements_with_React_and_with_Vue_are_the_same_and_change_together()
    {
        var errors = new List<string>();
        var page = await Open(Pieces, errors);
        var (react, vue, element) = (page.Locator("#react"), page.Locator("#vue"), page.Locator("rovett-choices"));
        foreach (var side in new[] { react, vue, element })
        {
            await Expect(side.GetByLabel("Weather warnings")).ToBeCheckedAsync();
            await Expect(side.GetByLabel("Engine alarms")).ToBeDisabledAsync();
        }
        static ILocator Day(ILocator side, string name) =>
            side.GetByRole(AriaRole.Checkbox, new LocatorGetByRoleOptions { Name = name, Exact = true });
        await react.GetByLabel("Weather warnings").UncheckAsync();
        foreach (var side in new[] { vue, element }) await Expect(side.GetByLabel("Weather warnings")).Not.ToBeCheckedAsync();

        await element.GetByText("Add a time").ClickAsync();
        await element.Locator("fieldset[data-part=time]").GetByLabel("From").FillAsync("21:30");
        await Day(element, "Sun").UncheckAsync();
        await element.GetByText("Save quiet hours").ClickAsync();
        await Expect(element.Locator("[part~=status]")).ToHaveTextAsync("Saved.");
        foreach (var side in new[] { react, vue })
        {
            await Expect(side.Locator("fieldset[data-part=time]").GetByLabel("From")).ToHaveValueAsync("21:30");
            await Expect(Day(side, "Sun")).Not.ToBeCheckedAsync();
            await Expect(Day(side, "Mon")).ToBeCheckedAsync();
        }

        await vue.GetByText("Remove", new LocatorGetByTextOptions { Exact = true }).ClickAsync();
        await vue.GetByText("Save quiet hours").ClickAsync();
        foreach (var side in new[] { react, element }) await Expect(side.Locator("fieldset[data-part=time]")).ToHaveCountAsync(0);
        await element.GetByLabel("Weather warnings").CheckAsync();
        foreach (var side in new[] { react, vue }) await Expect(side.GetByLabel("Weather warnings")).ToBeCheckedAsync();
        errors.ShouldBeEmpty();
    }

    [Fact]
    public async Task A_bell_and_an_inbox_as_element_with_React_and_with_Vue_show_the_same()
    {
        var errors = new List<string>();
        var page = await Open(Pieces, errors);
        var (react, vue, bell) = (page.Locator("#react"), page.Locator("#vue"), page.Locator("rovett-bell"));
        async Task Unread(int count)
        {
            foreach (var side in new[] { react, vue, bell })
            {
                await Expect(Button(side, $"^Notifications, {count} unread$")).ToBeVisibleAsync();
            }
        }
        await Expect(bell).ToHaveAttributeAsync("data-unread", new Regex("\\d+"));
        int before = int.Parse((await bell.GetAttributeAsync("data-unread"))!);
        await Unread(before);

        // It opens, and closes by the Escape key, which gives the focus back.
        await Button(bell, "^Notifications, ").ClickAsync();
        await Expect(bell.GetByRole(AriaRole.Region, new LocatorGetByRoleOptions { Name = "Notifications" })).ToBeVisibleAsync();
        await Expect(Button(bell, "^Notifications, ")).ToHaveAttributeAsync("aria-expanded", "true");
        await page.Keyboard.PressAsync("Escape");
        await Expect(bell.Locator("[part=panel]")).ToHaveCountAsync(0);
        (await page.EvaluateAsync<string>("document.activeElement.shadowRoot.activeElement.getAttribute('part')")).ShouldBe("button");
        await page.Keyboard.PressAsync("Enter");

        var panels = new[] { react.Locator("> [data-part=panel]"), vue.Locator("> [data-part=panel]"), bell.Locator("[part=panel]") };
        await Send("user:mara", "For all <img src=x onerror=alert(1)>");
        await Unread(before + 1);
        foreach (var panel in panels)
        {
            await Expect(panel.Locator("[data-part~=item]").First).ToContainTextAsync("For all <img");
            await Expect(panel.Locator("[data-part~=item]").First.Locator("time")).ToHaveTextAsync("now");
            await Expect(panel.Locator("[data-part=foot]")).ToContainTextAsync("Live over ");
        }

        // Read, and by a slip: each is one press, on the same place.
        await Button(bell, "^Mark read: For all").ClickAsync();
        await Unread(before);
        foreach (var panel in panels)
        {
            await Expect(panel.Locator("[data-part~=item]").First).Not.ToHaveAttributeAsync("data-unread", "true");
        }
        await page.Keyboard.PressAsync("Enter");
        await Unread(before + 1);
        await page.Keyboard.PressAsync("Escape");
        await vue.GetByText("Mark all read").ClickAsync();
        await Unread(0);
        await Expect(react.GetByText("Mark all read")).ToBeDisabledAsync();
        await Expect(bell.Locator("[part=count]")).ToHaveCountAsync(0);
        int shown = await react.Locator("[data-part~=item]").CountAsync();
        await react.GetByText("Load older").ClickAsync();
        await Eventually.Holds(async () => await react.Locator("[data-part~=item]").CountAsync(), count => count > shown,
            "older ones are shown");

        // The choices open from the bell.
        await Button(bell, "^Notifications, ").ClickAsync();
        await bell.GetByText("Choices", new LocatorGetByTextOptions { Exact = true }).ClickAsync();
        await Expect(bell.GetByLabel("Weather warnings")).ToBeCheckedAsync();
        await bell.GetByText("Back").ClickAsync();
        await Expect(bell.Locator("[data-part~=item]").First).ToContainTextAsync("For all");
        errors.ShouldBeEmpty();
    }

    [Fact]
    public async Task A_link_that_is_followed_marks_it_read_what_comes_does_not_move_what_is_read_and_nothing_runs_from_a_link()
    {
        var errors = new List<string>();
        var page = await Open(Pieces, errors);
        var bell = page.Locator("rovett-bell");
        await page.RouteAsync("**/checks/7", route => route.FulfillAsync(new RouteFulfillOptions { Body = "the check" }));
        await backend.Send(new JsonObject
        {
            ["to"] = new JsonArray("user:mara"),
            ["type"] = "test.happened",
            ["title"] = "With a link",
            ["link"] = "/checks/7",
        });
        await Button(bell, "^Notifications, ").ClickAsync();
        await Expect(bell.Locator("[data-part~=item]").First).ToContainTextAsync("With a link");
        int before = int.Parse((await bell.GetAttributeAsync("data-unread"))!);

        // While it is scrolled down, the list does not move, and says how many are new.
        await bell.Locator("[data-part=items]").EvaluateAsync("(list) => list.scrollTo({ top: 60 })");
        await Send("user:mara", "While reading");
        await Expect(bell.GetByText("1 new")).ToBeVisibleAsync();
        await Expect(bell.Locator("[data-part~=item]").First).ToContainTextAsync("With a link");
        await bell.GetByText("1 new").ClickAsync();
        await Expect(bell.Locator("[data-part~=item]").First).ToContainTextAsync("While reading");

        await page.EvaluateAsync("""
            () => addEventListener('rovett-follow', (event) => { document.title = `${event.detail.title} → ${event.detail.link}`; })
            """);
        await bell.GetByText("With a link").ClickAsync();
        await page.WaitForURLAsync("**/checks/7", new PageWaitForURLOptions { WaitUntil = WaitUntilState.Commit });
        var again = await Open(Pieces, errors, page.Context);
        await Expect(again.Locator("rovett-bell")).ToHaveAttributeAsync("data-unread", $"{before}");
        errors.ShouldBeEmpty();
    }

    [Fact]
    public async Task Toasts_are_shown_only_while_the_inbox_is_closed_and_not_within_quiet_hours_and_go_when_it_is_read()
    {
        using var http = new HttpClient { BaseAddress = demo.Url };
        async Task AsTeo(HttpMethod method, string path, string body)
        {
            using var request = new HttpRequestMessage(method, path)
            {
                Content = new StringContent(body, Encoding.UTF8, "application/json"),
            };
            var token = TestTokens.Make((string)demo.Ready["tokenSigningSecret"]!, "teo", []);
            request.Headers.Authorization = new AuthenticationHeaderValue("Bearer", token);
            using var answer = await http.SendAsync(request);
            answer.EnsureSuccessStatusCode();
        }
        var errors = new List<string>();
        var page = await Open((string)demo.Ready["crew"]!, errors);
        var teo = page.Locator("[data-device=teo-phone]");
        var toasts = teo.Locator("[data-part=toast]");
        await Expect(teo.Locator("[data-state=live]")).ToBeVisibleAsync();
        await Send("user:teo", "While it is open");
        await Expect(teo.GetByText("While it is open")).ToBeVisibleAsync();
        await Expect(toasts).ToHaveCountAsync(0);
        await Button(teo, "^Notifications, ").ClickAsync();
        await Expect(teo.GetByText("The inbox is closed.")).ToBeVisibleAsync();
        await Expect(toasts).ToHaveCountAsync(0); // it was told before

        // Somebody points at it: it stays.
        for (int i = 1; i <= 5; i++) await Send("user:teo", $"While it is closed {i}");
        await Expect(toasts).ToHaveCountAsync(3);
        await toasts.First.HoverAsync();
        await Expect(toasts.First).ToContainTextAsync("While it is closed 5");
        await Expect(teo.GetByText("and 2 more")).ToBeVisibleAsync();
        await Button(teo, "^Dismiss: While it is closed 5").ClickAsync();
        await Expect(toasts.First).ToContainTextAsync("While it is closed 4");
        await AsTeo(HttpMethod.Post, "/v1/inbox/marks", """{ "read": { "all": true } }""");
        await Expect(toasts).ToHaveCountAsync(0);
        await Expect(teo.Locator("header[data-unread='0']")).ToBeVisibleAsync();

        await AsTeo(HttpMethod.Put, "/v1/choices",
            """{ "mutes": [], "quiet": { "timeZone": "UTC", "hours": [{ "from": "00:00", "to": "24:00" }] } }""");
        await Send("user:teo", "Quietly");
        await Expect(teo.Locator("header[data-unread='1']")).ToBeVisibleAsync();
        await backend.Send(new JsonObject
        {
            ["to"] = new JsonArray("user:teo"),
            ["type"] = "test.happened",
            ["title"] = "Loudly",
            ["urgency"] = "high",
        });
        await Expect(toasts).ToHaveCountAsync(1);
        await Expect(toasts).ToContainTextAsync("Loudly");
        await Expect(teo.GetByRole(AriaRole.Alert)).ToContainTextAsync("Loudly");
        errors.ShouldBeEmpty();
    }

    [Fact]
    public async Task A_topic_is_shown_by_markup_alone_and_says_who_is_there_and_why_it_is_refused()
    {
        var errors = new List<string>();
        var page = await Open(Pieces, errors);
        var topic = page.Locator("rovett-topic");
        await Expect(topic).ToHaveAttributeAsync("data-here", "1");
        await page.EvaluateAsync("""
            () => {
              window.heard = [];
              addEventListener('rovett-notification', (event) => heard.push(event.detail.title));
              addEventListener('rovett-refused', (event) => heard.push(event.detail.title));
            }
            """);
        await backend.Send(new JsonObject
        {
            ["to"] = new JsonArray("topic:berth/3"),
            ["type"] = "berth.reassigned",
            ["title"] = "Sandpiper <b>moves</b> to berth 3",
            ["link"] = "/berths/3",
            ["data"] = new JsonObject { ["text"] = "from berth 5" },
        });
        await Expect(topic.Locator("li")).ToHaveCountAsync(1);
        await Expect(topic.Locator("li a")).ToHaveTextAsync("Sandpiper <b>moves</b> to berth 3");
        await Expect(topic.Locator("li a")).ToHaveAttributeAsync("href", "/berths/3");
        await Expect(topic.Locator("li b")).ToHaveTextAsync("from berth 5");
        await Expect(topic.Locator("li span")).ToHaveTextAsync("now");
        await Expect(topic).ToHaveAttributeAsync("data-count", "1");

        // Mara's connection, which the page's bell has, is not let on; the reason is shown, and told to the page.
        await page.EvaluateAsync("""
            () => document.querySelector('main').insertAdjacentHTML('beforeend', '<rovett-topic id="not" topic="berth/3"></rovett-topic>')
            """);
        await Expect(page.Locator("#not [part=error]")).ToContainTextAsync("To subscribe 'topic:berth/3' is refused");
        (await page.EvaluateAsync<string[]>("heard")).ShouldBe(["Sandpiper <b>moves</b> to berth 3", "Not allowed"]);
        await topic.First.EvaluateAsync("(it) => it.setAttribute('topic', 'berth/4')");
        await Eventually.Holds(async () => (await backend.Call(HttpMethod.Get, "/v1/channels?text=berth/4"))["channels"]!.AsArray().Count,
            count => count > 0, "it hears the other topic");
        errors.ShouldBeEmpty();
    }

    [Theory]
    [InlineData(1280, 800, ColorScheme.Light)]
    [InlineData(1280, 800, ColorScheme.Dark)]
    [InlineData(390, 844, ColorScheme.Light)]
    public async Task The_crew_page_and_the_pieces_are_accessible_and_fit(int width, int height, ColorScheme scheme)
    {
        var errors = new List<string>();
        var profile = await browser.NewContextAsync(new BrowserNewContextOptions
        {
            ViewportSize = new ViewportSize { Width = width, Height = height },
            ColorScheme = scheme,
        });
        var page = await Open((string)demo.Ready["crew"]!, errors, profile);
        await Expect(page.Locator("[data-state=live]")).ToHaveCountAsync(3);
        await Axe.FindsNothing(page, $"the crew page {scheme}");
        await page.GotoAsync(Pieces);
        await Expect(page.Locator("#vue [data-part~=item]").First).ToBeVisibleAsync();
        await Button(page.Locator("rovett-bell"), "^Notifications, ").ClickAsync();
        await Expect(page.Locator("rovett-bell [part=panel] [data-part~=item]").First).ToBeVisibleAsync();
        await Axe.FindsNothing(page, $"the pieces {scheme}");
        errors.ShouldBeEmpty();
    }
}
