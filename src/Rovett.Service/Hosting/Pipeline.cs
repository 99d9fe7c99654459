using Microsoft.AspNetCore.HttpOverrides;
using Rovett.Service.Cluster;
using Rovett.Service.Credentials;
using Rovett.Service.Endpoints.Admin;
using Rovett.Service.Endpoints.Backend;
using Rovett.Service.Endpoints.Events;
using Rovett.Service.Endpoints.Intakes;
using Rovett.Service.Endpoints.Live;
using Rovett.Service.Endpoints.OperatorConsole;
using Rovett.Service.Endpoints.User;
using Rovett.Service.Limits;
using Rovett.Service.Options;
using Rovett.Service.Reference;
using Rovett.Service.Spaces;
using Rovett.Service.Telemetry;

namespace Rovett.Service.Hosting;

/// <summary>What every request goes through, and where it ends.</summary>
static class Pipeline
{
    /// <param name="app">The application.</param>
    /// <param name="options">The options.</param>
    /// <param name="open">Requests wait until this is done.</param>
    public static void MapEverything(this WebApplication app, RovettOptions options, Task open)
    {
        app.UseMetrics(options);
        UseForwarded(app, options);
        var turns = app.Services.GetRequiredService<ConnectionTurns>();
        app.Use(next => context =>
        {
            turns.Asked(context);
            return next(context);
        });
        app.Use(next => context => open.IsCompleted ? next(context) : WhenOpen(context, next, open));
        app.UseCluster();
        app.Use(next => context =>
        {
            ConsoleDoor.Enter(context);
            SpaceDirectory.Enter(context);
            return next(context);
        });
        app.UseMiddleware<ProblemMiddleware>();
        app.UseMiddleware<Cors>();
        app.UseRouting();
        app.UseMiddleware<AccessMiddleware>();
        app.MapBackend();
        app.MapEvents();
        app.MapIntakes();
        app.MapAdmin();
        app.MapUser();
        app.MapLive();
        app.MapLinks();
        app.MapConsole();
        app.MapReference();
        app.MapPages();
        app.MapHealth();
        app.UseEndpoints(static _ => { });
    }

    static void UseForwarded(WebApplication app, RovettOptions options)
    {
        if (options.TrustedProxies.Count == 0) return;
        var forwarded = new ForwardedHeadersOptions { ForwardedHeaders = ForwardedHeaders.XForwardedFor, ForwardLimit = null };
        forwarded.KnownProxies.Clear();
        forwarded.KnownIPNetworks.Clear();
        foreach (var network in options.TrustedProxies) forwarded.KnownIPNetworks.Add(System.Net.IPNetwork.Parse(network));
        app.UseForwardedHeaders(forwarded);
    }

    static async Task WhenOpen(HttpContext context, RequestDelegate next, Task open)
    {
        await open.WaitAsync(context.RequestAborted);
        await next(context);
    }
}
