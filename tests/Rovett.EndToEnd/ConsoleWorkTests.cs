using System.Diagnostics;
using System.Text.Json.Nodes;
using System.Text.RegularExpressions;
using Microsoft.Playwright;
using Rovett.Client;
using Rovett.Testing;
using Shouldly;
using Xunit;

namespace Rovett.EndToEnd;

/// <summary>What operators do in the console: rules, setting up, channels and people; in headless Chromium, on the demo's data.</summary>
public sealed class ConsoleWorkTests(DemoGround ground) : IClassFixture<DemoGround>, IAsyncDisposable
{
    readonly List<IBrowserContext> profiles = [];
    readonly List<string> errors = [];
    readonly ServiceProcess demo = ground.Demo;
    readonly RovettClient backend = ground.Backend;
    static int operators;

    public async ValueTask DisposeAsync()
    {
        foreach (var profile in profiles) await profile.CloseAsync(); // pages that are left open go on asking
    }

    async Task<IPage> Open(string path)
    {
        var made = await backend.Call(HttpMethod.Post, "/v1/console-links", new JsonObject());
        var profile = await ground.Browser.NewContextAsync(
            new BrowserNewContextOptions { ViewportSize = new ViewportSize { Width = 1280, Height = 800 } });
        profiles.Add(profile);
        var page = await profile.NewPageAsync();
        page.PageError += (_, error) => errors.Add(error);
        await page.GotoAsync((string)made["link"]!);
        await page.GetByLabel("Name").FillAsync($"nora{Interlocked.Increment(ref operators)}");
        await page.GetByRole(AriaRole.Textbox, new PageGetByRoleOptions { Name = "Password" }).FillAsync("marrow sound");
        await Button(page, "Sign up").ClickAsync();
        await Assertions.Expect(page.GetByRole(AriaRole.Heading, new PageGetByRoleOptions { NameRegex = new Regex("well|needs you"), Level = 1 }))
            .ToBeVisibleAsync();
        await page.GotoAsync(new Uri(demo.Url, "/console" + path).ToString());
        return page;
    }

    static ILocator Button(IPage page, string name) =>
        page.GetByRole(AriaRole.Button, new PageGetByRoleOptions { Name = name, Exact = true });

    static Task Item(IPage page, string name) =>
        page.GetByRole(AriaRole.Menuitem, new PageGetByRoleOptions { Name = name, Exact = true }).ClickAsync();

    static ILocator Text(IPage page, string pattern) => page.GetByText(new Regex(pattern)).First;

    static async Task Type(IPage page, string editor, string text)
    {
        var content = page.GetByRole(AriaRole.Textbox, new PageGetByRoleOptions { Name = editor, Exact = true });
        await content.ClickAsync();
        await page.Keyboard.PressAsync("Control+a");
        await page.Keyboard.InsertTextAsync(text);
    }

    async Task Call(HttpMethod method, string path, string body, string type)
    {
        using var http = new HttpClient();
        using var request = new HttpRequestMessage(method, new Uri(demo.Url, path));
        request.Headers.TryAddWithoutValidation("Authorization", "Bearer " + (string)demo.Ready["adminKey"]!);
        request.Content = new StringContent(body, System.Text.Encoding.UTF8, type);
        using var answer = await http.SendAsync(request);
        answer.IsSuccessStatusCode.ShouldBeTrue(await answer.Content.ReadAsStringAsync());
    }

    [Fact]
    public async Task Rules_are_mended_by_line_compared_loaded_and_tried()
    {
        var page = await Open("/rules");
        var before = (string)(await backend.Call(HttpMethod.Get, "/v1/rules"))["document"]!;
        try
        {
            await Assertions.Expect(Text(page, "rules without a mistake")).ToBeVisibleAsync();
            await Type(page, "Rules", "rules:\n  - name: Tide\n    evnt: tide.high\n    to: [everyone]\n    notification: { title: \"{{ data.at }}\" }\n");
            var mistakes = page.GetByRole(AriaRole.List, new PageGetByRoleOptions { Name = "Mistakes" });
            await Assertions.Expect(mistakes).ToContainTextAsync("did you mean 'event'?");
            await Assertions.Expect(mistakes).ToContainTextAsync("line 3");
            await Assertions.Expect(Button(page, "Load as a new version")).ToBeDisabledAsync();

            const string tide = "  - name: Tide\n    event: tide.high\n    to: [everyone]\n    notification: { title: \"High tide at {{ data.at }}\" }\n";
            await Type(page, "Rules", before.Replace("\nrules:\n", "\nrules:\n" + tide));
            await Assertions.Expect(Text(page, "12 rules without a mistake")).ToBeVisibleAsync();
            await Type(page, "Event", """{"specversion":"1.0","id":"t1","source":"/tides","type":"tide.high","data":{"at":"14:05"}}""");
            await Button(page, "Try it").ClickAsync();
            await Assertions.Expect(page.GetByRole(AriaRole.Region, new PageGetByRoleOptions { Name = "What it becomes" }))
                .ToContainTextAsync("High tide at 14:05");

            await Button(page, "Load as a new version").ClickAsync();
            var dialog = page.GetByRole(AriaRole.Dialog);
            await Assertions.Expect(dialog).ToContainTextAsync("High tide at");
            await Button(page, "Load 12 rules").ClickAsync();
            await Assertions.Expect(page.GetByRole(AriaRole.Heading, new PageGetByRoleOptions { Name = "12 rules", Level = 1 })).ToBeVisibleAsync();
            ((int)(await backend.Call(HttpMethod.Get, "/v1/rules"))["rules"]!.AsArray().Count).ShouldBe(12);

            // An event of a type that no rule is for is told with its neighbour, and the rule's count goes up.
            await Call(HttpMethod.Post, "/v1/events", """{"specversion":"1.0","id":"t2","source":"/tides","type":"tide.hihg","data":{}}""",
                "application/cloudevents+json");
            await Assertions.Expect(Text(page, "the nearest with a rule is")).ToBeVisibleAsync();
        }
        finally
        {
            await Call(HttpMethod.Put, "/v1/rules", before, "application/yaml");
        }
        errors.ShouldBeEmpty();
    }

    [Fact]
    public async Task A_key_is_created_used_by_every_snippet_and_revoked()
    {
        var page = await Open("/setup/keys");
        await page.GetByLabel("Purpose").FillAsync("snippets");
        await Button(page, "Create key").ClickAsync();
        var key = await page.Locator("[data-secret]").InnerTextAsync();
        key.ShouldStartWith("rovett_key_");
        await page.GetByRole(AriaRole.Link, new PageGetByRoleOptions { Name = "First steps" }).ClickAsync();
        await Assertions.Expect(page.Locator("[data-step='sent']")).ToHaveAttributeAsync("data-done", "true");

        var folder = Directory.CreateTempSubdirectory("rovett-snippets-").FullName;
        try
        {
            foreach (var (name, run) in Runners(folder))
            {
                await page.GetByRole(AriaRole.Radiogroup, new PageGetByRoleOptions { Name = "Language" }).GetByText(name, new LocatorGetByTextOptions { Exact = true })
                    .ClickAsync();
                var code = await page.Locator("[data-snippet]").InnerTextAsync();
                code.ShouldContain(demo.Url.GetLeftPart(UriPartial.Authority), Case.Sensitive, name);
                var printed = await Task.Run(() => run(code, key));
                var id = Regex.Match(printed, "[0-9A-HJKMNP-TV-Z]{26}").Value;
                id.ShouldNotBeEmpty($"{name}: {printed}");
                var sent = await backend.Call(HttpMethod.Get, "/v1/notifications/" + id);
                ((string)sent["title"]!).ShouldBe("Turnstone: bow thruster check due", name);
            }
        }
        finally
        {
            Directory.Delete(folder, recursive: true);
        }

        await page.GetByRole(AriaRole.Link, new PageGetByRoleOptions { Name = "Keys", Exact = true }).ClickAsync();
        var row = page.GetByRole(AriaRole.Row).Filter(new LocatorFilterOptions { HasText = "snippets" });
        await row.GetByRole(AriaRole.Button, new LocatorGetByRoleOptions { Name = "Revoke" }).ClickAsync();
        await Button(page, "Revoke key").ClickAsync();
        await Assertions.Expect(row).ToContainTextAsync("revoked");
        using var revoked = new RovettClient(demo.Url, key);
        await Should.ThrowAsync<RovettRefusedException>(() => revoked.Send(new JsonObject { ["to"] = new JsonArray("everyone"), ["type"] = "t", ["title"] = "t" }));
        errors.ShouldBeEmpty();
    }

    static (string Name, Func<string, string, string> Run)[] Runners(string folder)
    {
        string File(string name, string code)
        {
            var path = Path.Combine(folder, name);
            System.IO.File.WriteAllText(path, code);
            return path;
        }
        // Beside node_modules, so that the package is found.
        string Module(string code)
        {
            var path = Path.Combine(ServiceProcess.Root, ".build", $"snippet-{Guid.NewGuid():N}.mjs");
            System.IO.File.WriteAllText(path, code);
            return path;
        }
        string Project(string code)
        {
            File("Program.cs", code);
            return File("snippet.csproj", $"""
                <Project Sdk="Microsoft.NET.Sdk">
                  <PropertyGroup><OutputType>Exe</OutputType><TargetFramework>net10.0</TargetFramework><ImplicitUsings>enable</ImplicitUsings></PropertyGroup>
                  <ItemGroup>{string.Concat(Directory.GetFiles(AppContext.BaseDirectory, "*.dll")
                      .Where(f => Path.GetFileName(f) is "Rovett.Client.dll" or "Polly.Core.dll")
                      .Select(f => $"<Reference Include=\"{f}\" />"))}</ItemGroup>
                </Project>
                """);
        }
        return
        [
            ("curl", (code, key) => Run(key, "bash", "-c", code + " -sS")),
            ("C#", (code, key) => Run(key, "dotnet", "run", "--project", Project(code))),
            ("TypeScript", (code, key) => Run(key, "node", Module(code))),
            ("Python", (code, key) => Run(key, "python3", File("send.py", code))),
            ("PHP", (code, key) => Run(key, "php", File("send.php", code))),
            ("Ruby", (code, key) => Run(key, "ruby", File("send.rb", code))),
        ];
    }

    static string Run(string key, string program, params string[] arguments)
    {
        var info = new ProcessStartInfo(program, arguments) { RedirectStandardOutput = true, RedirectStandardError = true };
        info.Environment["ROVETT_KEY"] = key;
        using var process = Process.Start(info)!;
        var error = process.StandardError.ReadToEndAsync();
        var output = process.StandardOutput.ReadToEnd();
        process.WaitForExit();
        if (arguments[0].EndsWith(".mjs", StringComparison.Ordinal)) File.Delete(arguments[0]);
        return output + error.Result;
    }

    [Fact]
    public async Task Rules_that_somebody_else_has_loaded_meanwhile_are_not_overwritten()
    {
        var page = await Open("/rules");
        var before = (string)(await backend.Call(HttpMethod.Get, "/v1/rules"))["document"]!;
        await Assertions.Expect(Text(page, "rules without a mistake")).ToBeVisibleAsync();
        await Type(page, "Rules", "# mine\n" + before);
        await Call(HttpMethod.Put, "/v1/rules", "# another's\n" + before, "application/yaml");
        try
        {
            await Button(page, "Load as a new version").ClickAsync();
            await Button(page, "Load 11 rules").ClickAsync();
            await Assertions.Expect(page.GetByRole(AriaRole.Dialog).GetByRole(AriaRole.Alert)).ToContainTextAsync("Another version");
            ((string)(await backend.Call(HttpMethod.Get, "/v1/rules"))["document"]!).ShouldStartWith("# another's");
        }
        finally
        {
            await Call(HttpMethod.Put, "/v1/rules", before, "application/yaml");
        }
        errors.ShouldBeEmpty();
    }

    [Fact]
    public async Task A_spaces_two_secrets_are_each_shown_until_taken_note_of()
    {
        var page = await Open("/setup/spaces");
        await page.GetByLabel("Name").FillAsync("harbour-office");
        await Button(page, "Create space").ClickAsync();
        await Assertions.Expect(page.Locator("[data-secret]")).ToHaveCountAsync(2);
        await Button(page, "I have it").First.ClickAsync();
        await Assertions.Expect(page.Locator("[data-secret]")).ToHaveCountAsync(1);
        await Assertions.Expect(Text(page, "The secret that signs tokens of harbour-office")).ToBeVisibleAsync();
        var row = page.GetByRole(AriaRole.Listitem).Filter(new LocatorFilterOptions { HasText = "/s/harbour-office/v1" });
        var plate = page.GetByRole(AriaRole.Button, new PageGetByRoleOptions { NameRegex = new Regex("space main$") });
        await plate.ClickAsync();
        await Item(page, "harbour-office");
        await Assertions.Expect(page.GetByText("space harbour-office")).ToBeVisibleAsync();
        await Button(page, "Show main").ClickAsync();
        await plate.WaitForAsync();
        await row.GetByRole(AriaRole.Button, new LocatorGetByRoleOptions { Name = "Remove" }).ClickAsync();
        await page.GetByLabel("Type harbour-office to go on").FillAsync("harbour-office");
        await Button(page, "Remove harbour-office").ClickAsync();
        await Assertions.Expect(row).ToBeHiddenAsync();
        await Assertions.Expect(plate).ToHaveCountAsync(0); // there is one space, and nothing to choose
        errors.ShouldBeEmpty();
    }

    [Fact]
    public async Task An_origin_that_was_refused_is_allowed_by_one_click()
    {
        using (var http = new HttpClient())
        {
            using var live = new HttpRequestMessage(HttpMethod.Get, new Uri(demo.Url, "/v1/live"));
            live.Headers.TryAddWithoutValidation("Origin", "https://tide.marrowsound.example");
            ((int)(await http.SendAsync(live)).StatusCode).ShouldBe(403);
        }
        var page = await Open("/setup/origins");
        await Button(page, "Allow https://tide.marrowsound.example").ClickAsync();
        await Assertions.Expect(page.GetByRole(AriaRole.Listitem).Filter(new LocatorFilterOptions { HasText = "https://tide.marrowsound.example" })
            .GetByRole(AriaRole.Button, new LocatorGetByRoleOptions { Name = "Remove" })).ToBeVisibleAsync();
        (await backend.Call(HttpMethod.Get, "/v1/settings"))["origins"]!.ToJsonString().ShouldContain("tide.marrowsound.example");
        await Button(page, "Remove").First.ClickAsync();
        await Assertions.Expect(Button(page, "Allow https://tide.marrowsound.example")).ToBeVisibleAsync();
        errors.ShouldBeEmpty();
    }

    [Fact]
    public async Task A_role_shows_its_members_and_a_grant_is_given_and_ended()
    {
        var page = await Open("/channels");
        await page.GetByRole(AriaRole.Link, new PageGetByRoleOptions { Name = "role:engineer" }).ClickAsync();
        await Assertions.Expect(page.GetByRole(AriaRole.Link, new PageGetByRoleOptions { Name = "Mara Quill" })).ToBeVisibleAsync();
        await page.GetByLabel("To whom").FillAsync("sanna");
        await page.GetByRole(AriaRole.Textbox, new PageGetByRoleOptions { Name = "Topic" }).FillAsync("berth/9");
        await Button(page, "Give the grant").ClickAsync();
        var row = page.GetByRole(AriaRole.Listitem).Filter(new LocatorFilterOptions { HasText = "user:sanna" });
        await Assertions.Expect(row).ToContainTextAsync("berth/9");
        (await backend.Call(HttpMethod.Get, "/v1/explain?user=sanna&on=topic:berth/9"))["rights"]![0]!["decision"]!.ToString().ShouldBe("allow");
        await row.GetByRole(AriaRole.Button, new LocatorGetByRoleOptions { Name = "End" }).ClickAsync();
        await Button(page, "End grant").ClickAsync();
        await Assertions.Expect(row).ToBeHiddenAsync();
        (await backend.Call(HttpMethod.Get, "/v1/explain?user=sanna&on=topic:berth/9"))["rights"]![0]!["decision"]!.ToString().ShouldBe("deny");
        errors.ShouldBeEmpty();
    }

    [Fact]
    public async Task An_event_leads_to_its_notification_and_a_persons_inbox_to_its_story()
    {
        await Call(HttpMethod.Post, "/v1/events", """
            {"specversion":"1.0","id":"check-7001","source":"/planning/1","type":"engine.check.due",
             "data":{"id":7001,"vessel":{"id":"turnstone","name":"Turnstone"},"check":"fuel filter","hours":60}}
            """, "application/cloudevents+json");
        var page = await Open("/activity?show=events");
        var row = page.GetByRole(AriaRole.Listitem).Filter(new LocatorFilterOptions { HasText = "check-7001" });
        await row.GetByRole(AriaRole.Link).ClickAsync();
        await Assertions.Expect(page.GetByRole(AriaRole.Heading, new PageGetByRoleOptions { Name = "Turnstone: fuel filter check due", Level = 1 }))
            .ToBeVisibleAsync();

        await page.GotoAsync(new Uri(demo.Url, "/console/people/mara").ToString());
        await page.GetByRole(AriaRole.Link, new PageGetByRoleOptions { Name = "Turnstone: fuel filter check due" }).First.ClickAsync();
        await Assertions.Expect(page.GetByRole(AriaRole.Region, new PageGetByRoleOptions { Name = "Story" })).ToContainTextAsync("fuel filter");
        errors.ShouldBeEmpty();
    }

    [Fact]
    public async Task A_decider_is_added_changed_and_removed_and_its_secret_is_shown_once()
    {
        var page = await Open("/setup/hooks");
        await page.GetByLabel("Name of the decider").FillAsync("rosters");
        await page.GetByLabel("Address that is asked").FillAsync("https://1.1.1.1/decide"); // asked by nobody
        await Button(page, "Add decider").ClickAsync();
        await Assertions.Expect(page.Locator("[data-secret]")).ToHaveTextAsync(new Regex("^whsec_"));
        await Button(page, "I have it").ClickAsync();
        var row = page.GetByRole(AriaRole.Listitem).Filter(new LocatorFilterOptions { HasText = "rosters" });
        await Assertions.Expect(row).ToContainTextAsync("not asked yet, asked 0 times");
        await row.GetByRole(AriaRole.Button, new LocatorGetByRoleOptions { Name = "Change" }).ClickAsync();
        await page.GetByLabel("Deny holds, s").FillAsync("30");
        await Button(page, "Save decider").ClickAsync();
        await Eventually.Holds(async () => (int)(await backend.Call(HttpMethod.Get, "/v1/deciders/rosters"))["denySeconds"]!, n => n == 30,
            "it is changed");
        await Assertions.Expect(page.Locator("[data-secret]")).ToHaveCountAsync(0);
        await row.GetByRole(AriaRole.Button, new LocatorGetByRoleOptions { Name = "Remove" }).ClickAsync();
        await Button(page, "Remove decider").ClickAsync();
        await Assertions.Expect(row).ToHaveCountAsync(0);
        errors.ShouldBeEmpty();
    }

    [Fact]
    public async Task A_list_of_thousands_stays_quick_to_use()
    {
        const int many = 3000;
        await Call(HttpMethod.Post, "/v1/users", string.Join('\n', Enumerable.Range(0, many).Select(i =>
            $$"""{"id":"hand{{i:D4}}","displayName":"Deck hand {{i:D4}}"}""")), "application/x-ndjson");
        var page = await Open("/people");
        await page.RunAndWaitForResponseAsync(() => page.GetByLabel("Find a person").FillAsync("hand"),
            r => r.Url.EndsWith("search=hand", StringComparison.Ordinal));
        var rows = page.GetByRole(AriaRole.Link, new PageGetByRoleOptions { NameRegex = new Regex("^.*Deck hand") });
        for (int shown = 100; shown <= 1000; shown += 100)
        {
            await Assertions.Expect(rows).ToHaveCountAsync(shown);
            await Button(page, "More people").PressAsync("Enter"); // not by the mouse: rows that come into view may move it meanwhile
        }
        await Assertions.Expect(rows).ToHaveCountAsync(1100);
        // Most of them are not laid out; and a frame after scrolling through all of them comes at once.
        var (skipped, frame) = (await page.EvaluateAsync<int>("""
            () => [...document.querySelectorAll('li > a')].filter((a) => !a.firstElementChild.checkVisibility({ contentVisibilityAuto: true })).length
            """), await page.EvaluateAsync<double>("""
            async () => {
              const began = performance.now();
              for (let y = 0; y < 20; y++) { scrollTo(0, y * 3000); await new Promise(requestAnimationFrame); }
              return (performance.now() - began) / 20;
            }
            """));
        skipped.ShouldBeGreaterThan(900);
        frame.ShouldBeLessThan(200);
        errors.ShouldBeEmpty();
    }

    [Fact]
    public async Task A_flood_is_sampled_and_says_so_and_the_page_stays_usable()
    {
        var page = await Open("/activity");
        await Assertions.Expect(page.Locator("a[data-id]").First).ToBeVisibleAsync();
        await page.EvaluateAsync("""
            () => {
              window.longest = 0;
              let last = performance.now();
              const frame = (now) => { longest = Math.max(longest, now - last); last = now; requestAnimationFrame(frame); };
              requestAnimationFrame(frame);
            }
            """);
        for (int i = 0; i < 10; i++)
        {
            await Call(HttpMethod.Post, "/v1/notifications", string.Join('\n', Enumerable.Range(0, 1000).Select(n =>
                $$"""{"to":["user:pia"],"type":"tide.measured","title":"Tide {{i}}-{{n}}"}""")), "application/x-ndjson");
        }
        await Assertions.Expect(Text(page, "Sampled: 10,\\d+ passed within the last minute")).ToBeVisibleAsync();
        await Assertions.Expect(page.GetByText("Tide 9-999")).ToBeVisibleAsync();
        await Button(page, "Hold").ClickAsync();
        await Assertions.Expect(Button(page, "Resume")).ToBeVisibleAsync();
        (await page.EvaluateAsync<double>("longest")).ShouldBeLessThan(1500, "ms between two frames");
        errors.ShouldBeEmpty();
    }
}
