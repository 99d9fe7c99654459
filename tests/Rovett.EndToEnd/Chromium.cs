using Microsoft.Playwright;

namespace Rovett.EndToEnd;

/// <summary>Debian's browser, headless, and asking nobody for anything.</summary>
static class Chromium
{
    static readonly string[] Flags = ["--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run",
        "--disable-background-networking", "--disable-component-update", "--disable-sync"];

    public static Task<IBrowser> Launch(IPlaywright playwright) =>
        playwright.Chromium.LaunchAsync(new BrowserTypeLaunchOptions { ExecutablePath = "/usr/bin/chromium", Args = Flags });
}
