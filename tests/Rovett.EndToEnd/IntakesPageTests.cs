using System.Net;
using System.Net.Sockets;
using System.Text;
using System.Text.RegularExpressions;
using Microsoft.Playwright;
using Rovett.Testing.Servers;
using Shouldly;
using Xunit;

namespace Rovett.EndToEnd;

/// <summary>The console's page of intakes, and what they received that is not an event.</summary>
public sealed class IntakesPageTests : FreshService
{
    readonly int port = FreePort.Next(), nobody = FreePort.Next();

    protected override string[] Arguments()
    {
        var file = Path.Combine(Folder, "intakes.yaml");
        File.WriteAllText(file, $$$"""
            intakes:
              - name: planning
                outbox: { host: 127.0.0.1, port: {{{nobody}}}, database: planning, user: rovett }
              - name: bilges
                udp: { listen: "127.0.0.1:{{{port}}}" }
            """);
        return ["--intakes", file];
    }

    [Fact]
    public async Task An_operator_sees_which_source_is_away_pauses_an_intake_and_mends_what_it_was_handed()
    {
        var page = await SignUp();
        ILocator Heading(string text) => page.GetByRole(AriaRole.Heading, new PageGetByRoleOptions { NameRegex = new Regex(text) });
        ILocator Button(string name) => page.GetByRole(AriaRole.Button, new PageGetByRoleOptions { Name = name, Exact = true });
        await page.GetByRole(AriaRole.Link, new PageGetByRoleOptions { NameRegex = new Regex("^Intakes") }).ClickAsync();
        await Assertions.Expect(Heading("1 intake waits for its source")).ToBeVisibleAsync();
        await Assertions.Expect(page.GetByText($"Failed to connect to 127.0.0.1:{nobody}").First).ToBeVisibleAsync();
        await Axe.FindsNothing(page, "intakes");

        await Button("Pause bilges").ClickAsync();
        await Assertions.Expect(Button("Resume bilges")).ToBeVisibleAsync();
        await Button("Resume bilges").ClickAsync();
        var row = page.GetByRole(AriaRole.Row).Filter(new LocatorFilterOptions { HasText = "bilges" });
        await Assertions.Expect(row).ToContainTextAsync("running");
        await Button("Test bilges").ClickAsync();
        await Assertions.Expect(row).ToContainTextAsync($"it listens on 127.0.0.1:{port}");

        using var sender = new UdpClient();
        await sender.SendAsync(Encoding.UTF8.GetBytes("""{"type":"bilge.level","data":{"level":41}}"""), new IPEndPoint(IPAddress.Loopback, port));
        await row.GetByRole(AriaRole.Link, new LocatorGetByRoleOptions { Name = "1 set aside" }).ClickAsync();
        await page.GetByRole(AriaRole.Link, new PageGetByRoleOptions { Name = "bilges, number 1" }).ClickAsync();
        var handed = page.GetByLabel(new Regex("^What it received"));
        var text = await handed.InputValueAsync();
        text.ShouldContain("bilge.level");
        await handed.FillAsync("""{"specversion":"1.0","id":"1","source":"/sensors/bilge",""" + text[1..]);
        await Button("Retry with this event").ClickAsync();
        await Assertions.Expect(Heading("Nothing is set aside")).ToBeVisibleAsync();
    }
}
