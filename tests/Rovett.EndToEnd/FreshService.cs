using Microsoft.Playwright;
using Rovett.Testing;
using Xunit;

namespace Rovett.EndToEnd;

/// <summary>A service that was just started, with a browser to look at it.</summary>
public abstract class FreshService : IAsyncLifetime
{
    protected string Folder { get; } = Directory.CreateTempSubdirectory("rovett-fresh-").FullName;
    protected ServiceProcess Service { get; private set; } = null!;
    protected IBrowser Browser { get; private set; } = null!;
    IPlaywright playwright = null!;

    /// <summary>Arguments of <c>rovett serve</c>, beside the usual ones.</summary>
    protected virtual string[] Arguments() => [];

    public async ValueTask InitializeAsync()
    {
        Service = await ServiceProcess.Start(Folder, Arguments());
        Assertions.SetDefaultExpectTimeout(20_000);
        playwright = await Playwright.CreateAsync();
        Browser = await Chromium.Launch(playwright);
    }

    public async ValueTask DisposeAsync()
    {
        await Browser.DisposeAsync();
        playwright.Dispose();
        Service.Dispose();
        Directory.Delete(Folder, recursive: true);
    }

    /// <summary>The console, once its first operator has signed up by the link of the first start.</summary>
    protected async Task<IPage> SignUp()
    {
        var page = await Browser.NewPageAsync(
            new BrowserNewPageOptions { ViewportSize = new ViewportSize { Width = 1280, Height = 800 } });
        await page.GotoAsync((string)Service.Ready["consoleSignUp"]!);
        await page.GetByLabel("Name").FillAsync("Ruth Calder");
        await page.GetByRole(AriaRole.Textbox, new PageGetByRoleOptions { Name = "Password" }).FillAsync("marrow sound");
        await page.GetByRole(AriaRole.Button, new PageGetByRoleOptions { Name = "Sign up", Exact = true }).ClickAsync();
        await Assertions.Expect(page.GetByRole(AriaRole.Heading, new PageGetByRoleOptions { Level = 1 })).ToBeVisibleAsync();
        return page;
    }
}
