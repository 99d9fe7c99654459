using System.Text.Json.Nodes;
using System.Text.RegularExpressions;
using Microsoft.Playwright;
using Rovett.Client;
using Xunit;

namespace Rovett.EndToEnd;

/// <summary>The walk-through of docs/console.md, step by step, from a service that was just started.</summary>
public sealed class WalkThroughTests : FreshService
{
    [Fact]
    public async Task From_the_first_start_to_why_a_subscription_was_refused_by_the_console_alone()
    {
        // 1. Sign up by the link of the first start.
        var page = await SignUp();
        ILocator Button(string name) => page.GetByRole(AriaRole.Button, new PageGetByRoleOptions { Name = name, Exact = true });
        ILocator Link(string start) => page.GetByRole(AriaRole.Link, new PageGetByRoleOptions { NameRegex = new Regex("^" + start) });
        ILocator Receiver(string which) => page.Locator($"[data-receiver='{which}']");
        ILocator Box(string name) => page.GetByRole(AriaRole.Textbox, new PageGetByRoleOptions { Name = name });

        await Assertions.Expect(page.GetByRole(AriaRole.Heading, new PageGetByRoleOptions { Name = "All is well." })).ToBeVisibleAsync();

        // 2. Get a key, and send with it as the snippet says.
        await Link("Set up").ClickAsync();
        await Assertions.Expect(page.GetByRole(AriaRole.Heading, new PageGetByRoleOptions { Name = "0 of 7 first steps are taken." })).ToBeVisibleAsync();
        await Link("Create one for your backend").ClickAsync();
        await page.GetByLabel("Purpose").FillAsync("ferry operations");
        await Button("Create key").ClickAsync();
        var key = await page.Locator("[data-secret]").InnerTextAsync();
        await Link("First steps").ClickAsync();
        await Assertions.Expect(page.Locator("[data-snippet]")).ToContainTextAsync("Authorization: Bearer $ROVETT_KEY");
        using (var backend = new RovettClient(Service.Url, key))
            await backend.Send(new JsonObject { ["to"] = new JsonArray("everyone"), ["type"] = "weather.warning", ["title"] = "Gale force 9 from 15:30" });
        foreach (var step in new[] { "key", "sent" })
            await Assertions.Expect(page.Locator($"[data-step='{step}']")).ToHaveAttributeAsync("data-done", "true");

        // 3. Two people, side by side.
        await Link("Side by side").ClickAsync();
        foreach (var (which, who) in new[] { ("first", "mara"), ("second", "teo") })
        {
            await Receiver(which).GetByPlaceholder("Choose or add a person").FillAsync(who);
            await page.GetByRole(AriaRole.Option, new PageGetByRoleOptions { Name = $"Add {who}" }).ClickAsync();
            await Assertions.Expect(Receiver(which).GetByText("Live over WebSocket")).ToBeVisibleAsync();
        }
        await Box("To").FillAsync("everyone");
        await page.GetByLabel("Title").FillAsync("The 09:40 leaves from berth 3");
        await Button("Send").ClickAsync();
        foreach (var which in new[] { "first", "second" })
            await Assertions.Expect(Receiver(which).GetByText("The 09:40 leaves from berth 3")).ToBeVisibleAsync();

        // 4. One does not get what is the other's.
        await Button("Show that teo does not get it").ClickAsync();
        await Assertions.Expect(page.GetByRole(AriaRole.Heading, new PageGetByRoleOptions { Name = "teo did not get it." })).ToBeVisibleAsync();

        // 5. A proxy in the way: it falls back.
        await Receiver("first").GetByLabel("Block WebSocket").CheckAsync();
        await Assertions.Expect(Receiver("first").GetByText("Live over server-sent events")).ToBeVisibleAsync();

        // 6. Why a subscription was refused, and what allows it.
        await Link("Channels").ClickAsync();
        await page.GetByLabel("User").FillAsync("teo");
        await page.GetByLabel("Channel", new PageGetByLabelOptions { Exact = true }).FillAsync("berth/3");
        await Button("Check").ClickAsync();
        await Assertions.Expect(page.GetByText("Denied.", new PageGetByTextOptions { Exact = true })).ToBeVisibleAsync();
        await Assertions.Expect(page.GetByText("no policy or grant allows it").First).ToBeVisibleAsync();
        await Box("To whom").FillAsync("teo");
        await Box("Topic").FillAsync("berth/3");
        await Button("Give the grant").ClickAsync();
        await page.ReloadAsync();
        await Assertions.Expect(page.GetByText("Allowed.", new PageGetByTextOptions { Exact = true })).ToBeVisibleAsync();
    }
}
