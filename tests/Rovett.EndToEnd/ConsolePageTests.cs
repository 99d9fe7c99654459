using System.Text.Json.Nodes;
using System.Text.RegularExpressions;
using Microsoft.Playwright;
using Npgsql;
using Rovett.Client;
using Rovett.Testing;
using Rovett.Testing.Servers;
using Shouldly;
using Xunit;

namespace Rovett.EndToEnd;

/// <summary>The console in headless Chromium, on the demo's data.</summary>
public sealed class ConsolePageTests(DemoGround ground) : IClassFixture<DemoGround>, IAsyncDisposable
{
    readonly List<IBrowserContext> profiles = [];
    readonly List<string> errors = [];
    readonly ServiceProcess demo = ground.Demo;
    readonly IBrowser browser = ground.Browser;
    readonly RovettClient backend = ground.Backend;
    static int operators;

    public async ValueTask DisposeAsync()
    {
        foreach (var profile in profiles) await profile.CloseAsync(); // pages that are left open go on asking
    }

    /// <summary>Signs up as another operator.</summary>
    async Task<IPage> SignUp(int width = 1280, int height = 800)
    {
        var made = await backend.Call(HttpMethod.Post, "/v1/console-links", new JsonObject());
        return await SignUp((string)made["link"]!, $"ruth{Interlocked.Increment(ref operators)}", width, height);
    }

    async Task<IPage> SignUp(string link, string name, int width = 1280, int height = 800)
    {
        var profile = await browser.NewContextAsync(
            new BrowserNewContextOptions { ViewportSize = new ViewportSize { Width = width, Height = height } });
        profiles.Add(profile);
        var page = await profile.NewPageAsync();
        page.PageError += (_, error) => errors.Add(error);
        page.Console += (_, message) =>
        {
            if (message.Type == "error") errors.Add(message.Text);
        };
        await page.GotoAsync(link);
        await page.GetByLabel("Name").FillAsync(name);
        await Password(page).FillAsync("marrow sound");
        await page.GetByRole(AriaRole.Button, new PageGetByRoleOptions { Name = "Sign up" }).ClickAsync();
        await Assertions.Expect(Heading(page, new Regex("well|needs you"))).ToBeVisibleAsync();
        page.Url.ShouldNotContain("sign-up");
        return page;
    }

    static ILocator Password(IPage page) => page.GetByRole(AriaRole.Textbox, new PageGetByRoleOptions { Name = "Password" });

    static ILocator Heading(IPage page, Regex name) =>
        page.GetByRole(AriaRole.Heading, new PageGetByRoleOptions { NameRegex = name, Level = 1 });

    static ILocator Button(IPage page, string name) =>
        page.GetByRole(AriaRole.Button, new PageGetByRoleOptions { Name = name, Exact = true });

    static Task Item(IPage page, string name) =>
        page.GetByRole(AriaRole.Menuitem, new PageGetByRoleOptions { Name = name }).ClickAsync();

    static ILocator Story(IPage page) => page.GetByRole(AriaRole.Region, new PageGetByRoleOptions { Name = "Story" });

    Task Go(IPage page, string path) => page.GotoAsync(new Uri(demo.Url, "/console" + path).ToString());

    Task<JsonNode> Send(string to, string title) =>
        backend.Send(new JsonObject { ["to"] = new JsonArray(to), ["type"] = "test.happened", ["title"] = title });

    string Token(string user, params string[] roles) => TestTokens.Make((string)demo.Ready["tokenSigningSecret"]!, user, roles);

    [Fact]
    public async Task A_notification_is_seen_to_arrive_be_received_and_read_and_is_withdrawn()
    {
        var page = await SignUp();
        await page.GetByRole(AriaRole.Link, new PageGetByRoleOptions { NameRegex = new Regex("^Activity") }).ClickAsync();
        var sent = await Send("user:pia", "Berth 6 is free again");
        var row = page.Locator($"[data-id='{sent["id"]}']");
        await Assertions.Expect(row).ToContainTextAsync("not received");

        using (var pia = await RawWebSocket.Connect(demo.Url.Port, "/v1/live?label=harbour%20desk", Token("pia", "harbour-desk")))
        {
            JsonObject message;
            do message = await pia.Next("notification");
            while ((string)message["title"]! != "Berth 6 is free again");
            await pia.Text($$"""{"kind":"ack","upTo":"{{message["cursor"]}}"}""");
            await Assertions.Expect(row).ToContainTextAsync("received");
            await Assertions.Expect(row).Not.ToContainTextAsync("not received");
            await pia.Text($$"""{"kind":"markRead","ids":["{{sent["id"]}}"]}""");
            await Assertions.Expect(row.GetByText("read", new LocatorGetByTextOptions { Exact = true })).ToBeVisibleAsync();
        }

        // Its story has an address of its own.
        await row.ClickAsync();
        page.Url.ShouldEndWith("/activity/" + sent["id"]);
        await Assertions.Expect(Story(page)).ToContainTextAsync("Read by 1 person.");
        await Assertions.Expect(Story(page)).ToContainTextAsync("Stored for user:pia");
        await page.ReloadAsync();
        await Assertions.Expect(Heading(page, new Regex("Berth 6 is free again"))).ToBeVisibleAsync();

        await Button(page, "More for this notification").ClickAsync();
        await Item(page, "Withdraw, asks first");
        await Button(page, "Keep").ClickAsync();
        await Assertions.Expect(row.GetByText("withdrawn")).ToBeHiddenAsync();
        await Button(page, "More for this notification").ClickAsync();
        await Item(page, "Withdraw, asks first");
        await Button(page, "Withdraw notification").ClickAsync();
        await Assertions.Expect(row.GetByText("withdrawn")).ToBeVisibleAsync();
        await Assertions.Expect(Story(page)).ToContainTextAsync("Withdrawn after");
        errors.ShouldBeEmpty();
    }

    [Fact]
    public async Task The_list_is_filtered_and_held_without_losing_anything()
    {
        var page = await SignUp();
        await Go(page, "/activity");
        var rows = page.Locator("a[data-id]");
        await page.GetByLabel("Type").FillAsync("engine.*");
        await page.GetByLabel("Text").FillAsync("FIRE pump");
        await Assertions.Expect(rows).ToHaveCountAsync(1);
        await page.WaitForURLAsync(new Regex("type=engine\\.\\*&text=FIRE"));
        await page.ReloadAsync(); // and a colleague who is sent the address sees the same
        await Assertions.Expect(rows).ToHaveCountAsync(1);
        await Assertions.Expect(page.GetByLabel("Text")).ToHaveValueAsync("FIRE pump");
        await page.GetByLabel("Text").FillAsync("nothing of the kind");
        await Assertions.Expect(page.GetByText("Nothing with type engine.* and text nothing of the kind")).ToBeVisibleAsync();
        await Button(page, "Show all").ClickAsync();
        await Assertions.Expect(page.GetByText("Nothing with")).ToBeHiddenAsync();

        await Button(page, "Hold").ClickAsync();
        for (int i = 0; i < 3; i++) await Send("user:pia", $"Held {i}");
        await Assertions.Expect(page.GetByText("held back: 3")).ToBeVisibleAsync();
        await Assertions.Expect(page.GetByText("Held 2")).ToBeHiddenAsync();
        await Button(page, "Resume").ClickAsync();
        for (int i = 0; i < 3; i++) await Assertions.Expect(page.GetByText($"Held {i}")).ToBeVisibleAsync();
        errors.ShouldBeEmpty();
    }

    [Fact]
    public async Task A_person_is_found_with_devices_signed_out_and_erased()
    {
        var page = await SignUp();
        using var live = await RawWebSocket.Connect(demo.Url.Port, "/v1/live?label=buoy%20tender&tried=sse:%20held%20back", Token("quill.2", "harbour-desk"));
        await live.Next("current");
        await Go(page, "/people");
        await page.GetByLabel("Find a person").FillAsync("QUILL.2");
        // A list that changes between the press and the release of the button takes no click.
        var found = page.GetByRole(AriaRole.Region, new PageGetByRoleOptions { Name = "People" }).GetByRole(AriaRole.Link);
        await Assertions.Expect(found).ToHaveCountAsync(1);
        await found.ClickAsync();
        var person = page.GetByRole(AriaRole.Region, new PageGetByRoleOptions { Name = "Person" });
        await Assertions.Expect(person).ToContainTextAsync("Live on 1 device");
        await Assertions.Expect(person).ToContainTextAsync("buoy tender over WebSocket, live");
        await page.ReloadAsync(); // an id with a dot in it is no file
        await Assertions.Expect(person).ToContainTextAsync("buoy tender");

        await Assertions.Expect(person).ToContainTextAsync("window 256");
        await Assertions.Expect(person).ToContainTextAsync("Before that, sse: held back");
        await Button(page, "End the session of buoy tender").ClickAsync();
        await page.GetByRole(AriaRole.Dialog).GetByRole(AriaRole.Button, new LocatorGetByRoleOptions { NameRegex = new Regex("^End the session") })
            .ClickAsync();
        ((string)(await live.Next("ending"))["reason"]!).ShouldBe("ended");
        await Assertions.Expect(person).ToContainTextAsync("None is connected.");

        using var back = await RawWebSocket.Connect(demo.Url.Port, "/v1/live?label=buoy%20tender", Token("quill.2", "harbour-desk"));
        await Assertions.Expect(person).ToContainTextAsync("buoy tender");
        await Button(page, "More for quill.2").ClickAsync();
        await Item(page, "Sign out, asks first");
        await Button(page, "Sign out quill.2").ClickAsync();
        ((string)(await back.Next("ending"))["reason"]!).ShouldBe("signed-out");
        await Assertions.Expect(person).ToContainTextAsync("None is connected.");

        await Button(page, "More for quill.2").ClickAsync();
        await Item(page, "Erase, asks first");
        await Assertions.Expect(Button(page, "Erase quill.2")).ToBeDisabledAsync();
        await page.GetByLabel("Type quill.2 to go on").FillAsync("quill.2");
        await Button(page, "Erase quill.2").ClickAsync();
        await Assertions.Expect(person).ToContainTextAsync("No such user", new LocatorAssertionsToContainTextOptions { IgnoreCase = true });
        errors.Where(e => !e.Contains("404")).ShouldBeEmpty();
    }

    [Fact]
    public async Task A_refused_subscription_says_why_and_what_would_allow_it()
    {
        var page = await SignUp();
        await Go(page, "/channels");
        await page.GetByLabel("User").FillAsync("teo");
        await page.GetByLabel("Channel", new PageGetByLabelOptions { Exact = true }).FillAsync("berth/3");
        await Button(page, "Check").ClickAsync();
        await Assertions.Expect(page.GetByText("Denied.", new PageGetByTextOptions { Exact = true })).ToBeVisibleAsync();
        await Assertions.Expect(page.GetByText("no policy or grant allows it")).ToBeVisibleAsync();
        await Assertions.Expect(page.GetByRole(AriaRole.List, new PageGetByRoleOptions { Name = "What would allow it" }))
            .ToContainTextAsync("give the user the role");
        await Assertions.Expect(page.GetByText("berth 6 is closed for works", new PageGetByTextOptions { Exact = true })).ToBeVisibleAsync();

        await backend.Call(HttpMethod.Post, "/v1/grants",
            new JsonObject { ["user"] = "teo", ["topic"] = "berth/3", ["may"] = new JsonArray("subscribe") });
        await page.ReloadAsync();
        await Assertions.Expect(page.GetByText("Allowed.", new PageGetByTextOptions { Exact = true })).ToBeVisibleAsync();
        errors.ShouldBeEmpty();
    }

    [Fact]
    public async Task What_is_set_aside_is_mended_and_retried_or_dropped()
    {
        var page = await SignUp();
        using var events = new RovettEvents(new RovettSendOptions { Url = demo.Url, Key = (string)demo.Ready["adminKey"]! });
        foreach (var id in new[] { "1", "2", "3" })
        {
            await events.Publish(new BackendEvent("/traffic", "sailing.delayed", null, new JsonObject
            {
                ["id"] = "k",
                ["sailing"] = "Kittiwake 09:40",
                ["minutes"] = 5,
                ["crew"] = new JsonArray("teo/2"),
            })
            { Id = id });
        }
        await Go(page, "/set-aside");
        await Assertions.Expect(Heading(page, new Regex("3 things need you."))).ToBeVisibleAsync();
        await page.GetByRole(AriaRole.Link, new PageGetByRoleOptions { Name = "sailing.delayed 1" }).ClickAsync();
        var data = page.GetByLabel("Event data (edit it if it is the cause)");
        await data.FillAsync((await data.InputValueAsync()).Replace("teo/2", "teo", StringComparison.Ordinal));
        await Button(page, "Retry with this data").ClickAsync();
        await Assertions.Expect(page.GetByText("is not set aside any more")).ToBeVisibleAsync();
        await Assertions.Expect(Heading(page, new Regex("2 things need you."))).ToBeVisibleAsync();

        // One that fails again stays in view, under its new number.
        await page.GetByRole(AriaRole.Link, new PageGetByRoleOptions { Name = "sailing.delayed 2" }).ClickAsync();
        var again = page.GetByRole(AriaRole.Heading, new PageGetByRoleOptions { Name = "sailing.delayed 2" });
        await Assertions.Expect(again).ToBeVisibleAsync();
        var before = page.Url;
        await Button(page, "Retry").First.ClickAsync();
        await Assertions.Expect(page).Not.ToHaveURLAsync(before);
        page.Url.ShouldContain("/set-aside/");
        await Assertions.Expect(again).ToBeVisibleAsync();

        await Go(page, "/set-aside");
        await page.GetByLabel("All").CheckAsync();
        await Button(page, "Retry 2").ClickAsync();
        await Assertions.Expect(page.GetByText("0 done, 2 failed again.")).ToBeVisibleAsync();
        await page.GetByLabel("All").CheckAsync();
        await Button(page, "Drop …").ClickAsync();
        await Button(page, "Drop 2").ClickAsync();
        await Assertions.Expect(Heading(page, new Regex("Nothing is set aside."))).ToBeVisibleAsync();
        errors.ShouldBeEmpty();
    }

    [Fact]
    public async Task Operators_are_invited_and_removed_and_come_back_by_their_password_alone()
    {
        var page = await SignUp();
        await Go(page, "/operators");
        await Button(page, "Invite to view").ClickAsync();
        var link = await page.Locator("code", new PageLocatorOptions { HasText = "sign-up=" }).TextContentAsync();
        var other = await SignUp(link!, "nils");
        await Go(other, "/set-aside");
        await Assertions.Expect(other.GetByText("only to operators who may operate")).ToBeVisibleAsync();

        await page.ReloadAsync();
        await Button(page, "More for nils").ClickAsync();
        await Item(page, "Remove, asks first");
        await Button(page, "Remove nils").ClickAsync();
        await Assertions.Expect(Button(page, "More for nils")).ToBeHiddenAsync();
        await other.ReloadAsync();
        await Assertions.Expect(Heading(other, new Regex("Sign in"))).ToBeVisibleAsync();
        await page.GetByLabel("Find in the audit log").FillAsync("removed");
        await Assertions.Expect(page.GetByText("operator.removed")).ToBeVisibleAsync();

        // Signed out, signed in again by password; the link is used up.
        var who = page.GetByRole(AriaRole.Button, new PageGetByRoleOptions { NameRegex = new Regex("signed in as (ruth.*)") });
        var name = (await who.GetAttributeAsync("aria-label"))!.Split("signed in as ")[1];
        await who.ClickAsync();
        await Item(page, "Sign out");
        await page.GetByLabel("Name").FillAsync(name);
        await Password(page).FillAsync("not the password");
        await Button(page, "Sign in").ClickAsync();
        await Assertions.Expect(page.GetByText("Wrong name or password")).ToBeVisibleAsync();
        await Password(page).FillAsync("marrow sound");
        await Button(page, "Sign in").ClickAsync();
        await Assertions.Expect(Heading(page, new Regex("operator"))).ToBeVisibleAsync();
        errors.Where(e => !e.Contains("401") && !e.Contains("403")).ShouldBeEmpty();
    }

    [Fact]
    public async Task A_service_that_is_gone_looks_different_from_a_quiet_one()
    {
        var folder = Directory.CreateTempSubdirectory("rovett-gone-").FullName;
        using (var service = await ServiceProcess.Start(folder))
        {
            var page = await SignUp((string)service.Ready["consoleSignUp"]!, "ruth");
            await Assertions.Expect(Heading(page, new Regex("All is well."))).ToBeVisibleAsync();
            await page.GotoAsync(new Uri(service.Url, "/console/activity").ToString());
            await Assertions.Expect(page.GetByText("Nothing was sent yet")).ToBeVisibleAsync();
            await page.GotoAsync(new Uri(service.Url, "/console").ToString());
            await Assertions.Expect(Heading(page, new Regex("All is well."))).ToBeVisibleAsync();

            await service.Kill();
            await Assertions.Expect(page.GetByText("The service does not answer")).ToBeVisibleAsync();
            await Assertions.Expect(page.GetByText("Shown:")).ToBeVisibleAsync();
        }
        Directory.Delete(folder, recursive: true);
        errors.Where(e => !e.Contains("ERR_")).ShouldBeEmpty();
    }

    [Fact]
    public async Task A_node_shows_that_it_cannot_reach_another_and_that_its_store_is_a_database()
    {
        using var server = new PostgresServer();
        var database = server.NewDatabase();
        var folder = Directory.CreateTempSubdirectory("rovett-node-page-").FullName;
        var secret = Path.Combine(folder, "secret");
        await File.WriteAllTextAsync(secret, new string('s', 40), TestContext.Current.CancellationToken);
        using (var service = await ServiceProcess.Start(folder, ["--database", database, "--node-url",
            $"https://127.0.0.1:{FreePort.Next()}", "--cluster-secret-file", secret]))
        {
            var page = await SignUp((string)service.Ready["consoleSignUp"]!, "ruth");
            await Assertions.Expect(page.GetByText("in PostgreSQL").First).ToBeVisibleAsync();
            (await page.Locator("main").InnerTextAsync()).ShouldNotContain("NaN");

            // A node that gives signs of life and listens nowhere.
            await using var connection = new NpgsqlConnection(database);
            await connection.OpenAsync(TestContext.Current.CancellationToken);
            await using var alive = new NpgsqlCommand("INSERT INTO node (url, incarnation, version, speaks, joined, beat) VALUES " +
                "('https://127.0.0.1:1', '00000000-0000-0000-0000-000000000001', '0', 1, clock_timestamp(), clock_timestamp()) " +
                "ON CONFLICT (url) DO UPDATE SET beat=clock_timestamp()", connection);
            await Eventually.Holds(async () =>
            {
                await alive.ExecuteNonQueryAsync();
                return await page.GetByText("can't reach https://127.0.0.1:1: check the network").IsVisibleAsync();
            }, shown => shown, "it says what to look at");
            await Assertions.Expect(page.GetByText("1 out of reach")).ToBeVisibleAsync();
        }
        Directory.Delete(folder, recursive: true);
        errors.ShouldBeEmpty();
    }

    [Fact]
    public async Task Find_leads_to_people_notifications_and_pages_by_the_keyboard_alone()
    {
        var page = await SignUp();
        await page.Keyboard.PressAsync("Control+K");
        await page.GetByLabel("Find", new PageGetByLabelOptions { Exact = true }).Last.FillAsync("mara");
        await Assertions.Expect(page.GetByText("Mara Quill", new PageGetByTextOptions { Exact = true })).ToBeVisibleAsync();
        await page.Keyboard.PressAsync("ArrowDown");
        await page.Keyboard.PressAsync("Enter");
        await Assertions.Expect(Heading(page, new Regex("Mara Quill"))).ToBeVisibleAsync();
        await Assertions.Expect(page.GetByRole(AriaRole.Dialog)).ToBeHiddenAsync();
        await page.Keyboard.PressAsync("/");
        await page.GetByLabel("Find", new PageGetByLabelOptions { Exact = true }).Last.FillAsync("denied");
        await Assertions.Expect(page.GetByRole(AriaRole.Dialog).GetByText("Channels")).ToBeVisibleAsync();
        errors.ShouldBeEmpty();
    }

    [Theory]
    [InlineData(1280, 800, ColorScheme.Light)]
    [InlineData(1280, 800, ColorScheme.Dark)]
    [InlineData(390, 844, ColorScheme.Light)]
    public async Task Every_page_is_accessible_and_fits(int width, int height, ColorScheme scheme)
    {
        var page = await SignUp(width, height);
        await page.EmulateMediaAsync(new PageEmulateMediaOptions { ColorScheme = scheme });
        var newest = (await backend.Call(HttpMethod.Get, "/v1/notifications?limit=1"))["notifications"]![0]!["id"];
        foreach (var path in new[] { "/", "/activity", $"/activity/{newest}", "/people", "/people/mara",
            "/channels?user=teo&right=subscribe&on=topic:berth/3", "/set-aside", "/operators", "/?over=1h",
            "/side?first=mara&second=teo", "/rules", "/setup", "/setup/keys", "/channels?channel=role:engineer", "/activity?show=events" })
        {
            await Go(page, path);
            await Assertions.Expect(page.GetByRole(AriaRole.Heading, new PageGetByRoleOptions { Level = 1 })).ToHaveCountAsync(1);
            await Assertions.Expect(page.GetByLabel("Loading")).ToHaveCountAsync(0);
            await Axe.FindsNothing(page, $"{path} {scheme}");
        }
        errors.ShouldBeEmpty();
    }

    ILocator Receiver(IPage page, string which) => page.Locator($"[data-receiver='{which}']");

    [Fact]
    public async Task Two_people_receive_side_by_side_and_one_is_shown_not_to_get_what_is_the_others()
    {
        var page = await SignUp();
        await Go(page, "/side?first=mara&second=teo");
        foreach (var which in new[] { "first", "second" })
        {
            await Assertions.Expect(Receiver(page, which).GetByText("Live over WebSocket")).ToBeVisibleAsync();
        }
        await page.GetByLabel("Title").FillAsync("Bow thruster: look at the seal");
        await page.GetByRole(AriaRole.Textbox, new PageGetByRoleOptions { Name = "To" }).FillAsync("role:engineer");
        await Assertions.Expect(page.GetByText(new Regex("Reaches 2 people"))).ToBeVisibleAsync();
        await Button(page, "Send").ClickAsync();
        await Assertions.Expect(Receiver(page, "first").GetByText("Bow thruster: look at the seal")).ToBeVisibleAsync();
        var leg = page.GetByRole(AriaRole.Listitem).Filter(new LocatorFilterOptions { HasText = "Bow thruster: look at the seal" })
            .Filter(new LocatorFilterOptions { Has = page.Locator("[data-end]") });
        await Assertions.Expect(leg.Locator("[data-end='received']")).ToHaveCountAsync(1);
        await Assertions.Expect(leg.Locator("[data-end='not for']")).ToContainTextAsync("not for Teo");
        await Assertions.Expect(Receiver(page, "second").GetByText("Bow thruster: look at the seal")).ToBeHiddenAsync();

        await page.GetByRole(AriaRole.Button, new PageGetByRoleOptions { NameRegex = new Regex("^Show that Teo") }).ClickAsync();
        await Assertions.Expect(Heading(page, new Regex("Teo.* did not get it"))).ToBeVisibleAsync();
        await Assertions.Expect(page.GetByText(new Regex("none carries the notification"))).ToBeVisibleAsync();

        var acts = (await backend.Call(HttpMethod.Get, "/v1/audit?limit=200")).ToJsonString();
        acts.ShouldContain("user.stood-in-for");
        errors.ShouldBeEmpty();
    }

    [Fact]
    public async Task A_blocked_WebSocket_and_held_streams_are_seen_to_fall_back_and_a_cut_to_be_caught_up_with()
    {
        var page = await SignUp();
        await Go(page, "/side?first=ivo&second=teo");
        var ivo = Receiver(page, "first");
        await Assertions.Expect(ivo.GetByText("Live over WebSocket")).ToBeVisibleAsync();
        await ivo.GetByLabel("Block WebSocket").CheckAsync();
        await Assertions.Expect(ivo.GetByText("Live over server-sent events")).ToBeVisibleAsync();
        await ivo.GetByLabel("Hold back streams").CheckAsync();
        await ivo.GetByLabel("Cut the connection").CheckAsync();
        await Assertions.Expect(ivo.Locator("[data-phase]")).ToContainTextAsync("Offline");
        await Send("user:ivo", "Sent while the line was cut");
        await ivo.GetByLabel("Cut the connection").UncheckAsync();
        await Assertions.Expect(ivo.GetByText("Live over long poll")).ToBeVisibleAsync();
        await Assertions.Expect(ivo.GetByText("Sent while the line was cut")).ToBeVisibleAsync();
        await ivo.GetByLabel("Hold back streams").UncheckAsync();
        await ivo.GetByLabel("Block WebSocket").UncheckAsync();
        await Assertions.Expect(ivo.GetByText("Live over WebSocket")).ToBeVisibleAsync();
        await Assertions.Expect(page.GetByRole(AriaRole.Row).Filter(new LocatorFilterOptions { HasText = "Sent while the line was cut" }).First)
            .ToContainTextAsync("to the device");
    }
}
