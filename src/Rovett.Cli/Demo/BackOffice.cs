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

namespace Rovett.Cli.Demo;

/// <summary>The ferry operator's own backend: serves the crew page, knows its people, makes their tokens, sends what
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
    /// <param name="sender">Sends with an API key.</param>
    public static async Task<BackOffice> Start(int port, Scenario scenario, Func<Uri> service, Func<Person, string> token, Func<RovettClient> sender)
    {
        var builder = WebApplication.CreateSlimBuilder();
        builder.Logging.ClearProviders();
        builder.WebHost.ConfigureKestrel(o => o.Listen(IPAddress.Loopback, port));
        var app = builder.Build();
        app.MapGet("/api/people", () => Results.Json(new { service = service().ToString().TrimEnd('/'), people = scenario.People.Select(p => new { p.Id, p.Name, p.Roles }) }));
        app.MapPost("/api/token", (string user) => scenario.People.FirstOrDefault(p => p.Id == user) is { } person ? Results.Json(new { token = token(person) }) : Results.NotFound());
        app.MapPost("/api/happen", async (int number) =>
        {
            var notification = scenario.Day[Math.Abs(number) % scenario.Day.Count].DeepClone();
            return Results.Content((await sender().Send(notification)).ToJsonString(), "application/json");
        });
        var upstream = new HttpClient(new SocketsHttpHandler { UseProxy = false }) { Timeout = Timeout.InfiniteTimeSpan };
        app.Map("/no-websockets/{**path}", context => PassOn(context, upstream, service()));
        var folder = Path.Combine(AppContext.BaseDirectory, "wwwroot", "crew");
        if (Directory.Exists(folder))
        {
            var files = new PhysicalFileProvider(folder);
            app.UseFileServer(new FileServerOptions { FileProvider = files, RequestPath = "/crew", RedirectToAppendTrailingSlash = true });
        }
        app.MapGet("/", () => Results.Redirect("/crew/"));
        await app.StartAsync();
        return new BackOffice(app);
    }

    /// <summary>A proxy that knows nothing of WebSockets: it passes requests on without their Upgrade, so that one fails
    /// and everything else works.</summary>
    static async Task PassOn(HttpContext context, HttpClient upstream, Uri service)
    {
        using var request = new HttpRequestMessage(new HttpMethod(context.Request.Method), new Uri(service, $"/{context.Request.RouteValues["path"]}{context.Request.QueryString}"));
        foreach (var name in new[] { "Authorization", "Accept", "Last-Event-ID" })
        {
            if (context.Request.Headers.TryGetValue(name, out var value)) request.Headers.TryAddWithoutValidation(name, (string?)value);
        }
        if (context.Request.Headers.Upgrade.Count > 0) request.Headers.TryAddWithoutValidation("Accept", "application/json");
        if (context.Request.ContentLength > 0)
        {
            request.Content = new StreamContent(context.Request.Body);
            request.Content.Headers.TryAddWithoutValidation("Content-Type", context.Request.ContentType);
        }
        try
        {
            using var answer = await upstream.SendAsync(request, HttpCompletionOption.ResponseHeadersRead, context.RequestAborted);
            context.Response.StatusCode = (int)answer.StatusCode;
            context.Response.ContentType = answer.Content.Headers.ContentType?.ToString();
            await using var body = await answer.Content.ReadAsStreamAsync(context.RequestAborted);
            var buffer = new byte[8192];
            int count;
            while ((count = await body.ReadAsync(buffer, context.RequestAborted)) > 0)
            {
                await context.Response.Body.WriteAsync(buffer.AsMemory(0, count), context.RequestAborted);
                await context.Response.Body.FlushAsync(context.RequestAborted);
            }
        }
        catch (Exception gone) when (gone is OperationCanceledException or HttpRequestException or IOException)
        {
            context.Abort();
        }
    }

    public async ValueTask DisposeAsync()
    {
        await app.StopAsync();
        await app.DisposeAsync();
    }
}
