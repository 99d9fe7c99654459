using System.Net;
using Microsoft.AspNetCore.Builder;
using Microsoft.AspNetCore.Hosting;
using Microsoft.AspNetCore.Hosting.Server;
using Microsoft.AspNetCore.Hosting.Server.Features;
using Microsoft.AspNetCore.Http;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.FileProviders;
using Microsoft.Extensions.Logging;
using Rovett.Client;
using Rovett.Service.Live;

namespace Rovett.Cli.Demo;

/// <summary>The ferry operator's own backend: serves the crew page, knows its people, makes their tokens, publishes what
/// happens. What a developer's backend does beside Rovett, and nothing more.</summary>
sealed class BackOffice : IAsyncDisposable
{
    readonly WebApplication app;

    BackOffice(WebApplication app) => this.app = app;

    public string Url => app.Services.GetRequiredService<IServer>().Features.Get<IServerAddressesFeature>()!.Addresses.First();

    /// <summary>Starts it beside a service.</summary>
    /// <param name="port">The port; 0 takes a free one.</param>
    /// <param name="scenario">The people.</param>
    /// <param name="service">The service's address; asked for late, because the service must know this origin first.</param>
    /// <param name="token">Makes a token.</param>
    /// <param name="events">Publishes events.</param>
    /// <param name="mail">The mail that was caught, for a page.</param>
    /// <param name="faults">Faults that the page may cause.</param>
    public static async Task<BackOffice> Start(int port, Scenario scenario, Func<Uri> service, Func<Person, string> token,
        Func<RovettEvents> events, MailCatcher mail, FaultSwitches faults)
    {
        var builder = WebApplication.CreateSlimBuilder();
        builder.Logging.ClearProviders();
        builder.WebHost.ConfigureKestrel(o => o.Listen(IPAddress.Loopback, port));
        var app = builder.Build();
        app.MapGet("/api/people",
            () => Results.Json(new
            {
                service = service().ToString().TrimEnd('/'),
                people = scenario.People.Select(p => new { p.Id, p.Name, p.Roles })
            }));
        app.MapPost("/api/token",
            (string user) => scenario.People.FirstOrDefault(p => p.Id == user) is { } person
            ? Results.Json(new { token = token(person) })
            : Results.NotFound());
        // For elements by markup alone, which are given the token as text.
        app.MapGet("/api/token",
            (string user) => scenario.People.FirstOrDefault(p => p.Id == user) is { } person
            ? Results.Text(token(person))
            : Results.NotFound());
        app.MapPost("/api/happen", async (int number) =>
        {
            await events().Publish(scenario.Day[Math.Abs(number) % scenario.Day.Count].ToEvent());
            return Results.NoContent();
        });
        app.MapGet("/api/fault", (string device) => Results.Json(new { blocked = faults.BlocksWebSocket(device) }));
        app.MapPost("/api/fault", (string device, bool blocked) => faults.BlockWebSocket(device, blocked));
        var folder = Path.Combine(AppContext.BaseDirectory, "wwwroot", "crew");
        if (Directory.Exists(folder))
        {
            var files = new PhysicalFileProvider(folder);
            app.UseFileServer(new FileServerOptions { FileProvider = files, RequestPath = "/crew", RedirectToAppendTrailingSlash = true });
        }
        app.MapGet("/", () => Results.Redirect("/crew/"));
        app.MapGet("/mail", () => Results.Content(MailPage.Of(mail.Caught), "text/html; charset=utf-8"));
        await app.StartAsync();
        return new BackOffice(app);
    }

    public async ValueTask DisposeAsync()
    {
        await app.StopAsync();
        await app.DisposeAsync();
    }
}
