using Microsoft.Playwright;
using Rovett.Client;
using Rovett.Testing;
using Xunit;

namespace Rovett.EndToEnd;

/// <summary>The demo after its story, and a browser.</summary>
public sealed class DemoGround : IAsyncLifetime
{
    readonly string folder = Directory.CreateTempSubdirectory("rovett-demo-").FullName;
    IPlaywright playwright = null!;

    public ServiceProcess Demo { get; private set; } = null!;
    public IBrowser Browser { get; private set; } = null!;
    public RovettClient Backend { get; private set; } = null!;

    public async ValueTask InitializeAsync()
    {
        // Nothing happens after the story but what the tests do.
        Demo = await ServiceProcess.Start(folder, ["--page-port", "0", "--pace", "0.01", "--stay", "--every", "0"], command: "demo");
        await Eventually.Holds(() => Demo.Printed.Contains("All checks passed."), "the story has been told", 60);
        Assertions.SetDefaultExpectTimeout(20_000);
        Backend = new RovettClient(Demo.Url, (string)Demo.Ready["adminKey"]!);
        playwright = await Playwright.CreateAsync();
        Browser = await Chromium.Launch(playwright);
    }

    public async ValueTask DisposeAsync()
    {
        await Browser.DisposeAsync();
        playwright.Dispose();
        Backend.Dispose();
        Demo.Dispose();
        Directory.Delete(folder, recursive: true);
    }
}
