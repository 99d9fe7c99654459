using Rovett.Core.Ledgers;
using Rovett.Service.Credentials;

namespace Rovett.Service.Endpoints.OperatorConsole;

/// <summary>What the console's pages call.</summary>
static class ConsoleRoutes
{
    public static IServiceCollection AddConsoleEndpoints(this IServiceCollection services) => services
        .AddSingleton<ActivityMonitor>()
        .AddSingleton<ILedgerObserver>(p => p.GetRequiredService<ActivityMonitor>())
        .AddSingleton<ConsoleEndpoints>()
        .AddSingleton<ConsoleAccess>();

    public static void MapConsole(this IEndpointRouteBuilder routes)
    {
        var p = routes.ServiceProvider;
        var (console, access) = (p.GetRequiredService<ConsoleEndpoints>(), p.GetRequiredService<ConsoleAccess>());
        routes.MapGet("/console/api/me", console.Me);
        routes.MapPost("/console/api/sign-up", console.SignUp);
        routes.MapPost("/console/api/sign-in", console.SignIn);
        routes.MapPost("/console/api/sign-out", console.SignOut);
        var view = routes.ForOperators("view");
        view.MapGet("/console/api/live", console.Live);
        view.MapGet("/console/api/access", access.Show);
        view.MapGet("/console/api/explain", access.Explain);
        view.MapGet("/console/api/operators", access.List);
        var operate = routes.ForOperators("operate");
        operate.MapPost("/console/api/operators/remove", access.Remove);
        operate.MapPost("/console/api/links", access.MakeLink);
        operate.MapPost("/console/api/sign-out-user", access.SignOutUser);
        // So that nobody is locked out of the console.
        routes.ForMainKeys("admin").MapPost("/v1/console-links", access.MakeLinkByKey);
    }
}
