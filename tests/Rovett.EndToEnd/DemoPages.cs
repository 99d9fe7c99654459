using System.Text.Json.Nodes;
using Microsoft.Playwright;
using Rovett.Client;
using Rovett.Testing;

namespace Rovett.EndToEnd;

/// <summary>The demo with a page of its own in headless Chromium.</summary>
public abstract class DemoPages(DemoGround ground) : IAsyncDisposable
{
    readonly HashSet<IBrowserContext> profiles = [];
    private protected readonly ServiceProcess demo = ground.Demo;
    private protected readonly IBrowser browser = ground.Browser;
    private protected readonly RovettClient backend = ground.Backend;

    private protected async Task<IPage> Open(string address, List<string> errors, IBrowserContext? profile = null)
    {
        profile ??= await browser.NewContextAsync(
            new BrowserNewContextOptions { ViewportSize = new ViewportSize { Width = 1280, Height = 800 } });
        profiles.Add(profile);
        var page = await profile.NewPageAsync();
        page.PageError += (_, error) => errors.Add(error);
        page.Console += (_, message) =>
        {
            bool isError = message.Type == "error" && !message.Text.StartsWith("WebSocket connection to", StringComparison.Ordinal);
            if (isError || message.Text.StartsWith("rovett: nothing handles", StringComparison.Ordinal))
            {
                errors.Add(message.Text);
            }
        };
        await page.GotoAsync(address);
        return page;
    }

    /// <summary>Of one test, nothing is connected any more when another begins.</summary>
    public async ValueTask DisposeAsync()
    {
        foreach (var profile in profiles) await profile.CloseAsync();
        GC.SuppressFinalize(this);
    }

    private protected Task<JsonNode> Send(string to, string title) =>
        backend.Send(new JsonObject { ["to"] = new JsonArray(to), ["type"] = "test.happened", ["title"] = title });
}
