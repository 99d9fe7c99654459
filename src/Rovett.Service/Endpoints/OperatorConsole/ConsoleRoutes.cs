using Rovett.Core.Ledgers;
using Rovett.Service.Credentials;
using Rovett.Service.Endpoints.Backend;
using Rovett.Service.Http;

namespace Rovett.Service.Endpoints.OperatorConsole;

/// <summary>Endpoints for the console's pages.</summary>
static class ConsoleRoutes
{
    public static IServiceCollection AddConsoleEndpoints(this IServiceCollection services) => services
        .AddRecords(ConsoleJson.Default)
        .AddSingleton<ActivityMonitor>()
        .AddSingleton<ILedgerObserver>(p => p.GetRequiredService<ActivityMonitor>())
        .AddSingleton<ConsoleEndpoints>()
        .AddSingleton<ConsoleFacts>()
        .AddSingleton<ConsoleAccess>();

    public static void MapConsole(this IEndpointRouteBuilder routes)
    {
        var p = routes.ServiceProvider;
        var (console, access) = (p.GetRequiredService<ConsoleEndpoints>(), p.GetRequiredService<ConsoleAccess>());
        routes.Get("/console/api/me", console.ShowMe);
        routes.Post<SignInRequest, NoAnswer>("/console/api/sign-up", console.SignUp);
        routes.Post<SignInRequest, NoAnswer>("/console/api/sign-in", console.SignIn);
        routes.Post("/console/api/sign-out", console.SignOutOperator);
        var view = routes.ForOperators("view");
        view.ByHand("GET", "/console/api/live", console.Live);
        view.Get("/console/api/facts", p.GetRequiredService<ConsoleFacts>().ShowFacts);
        view.Get("/console/api/access", access.ShowAccess);
        view.Get<ExplainQuery, ExplainAnswer>("/console/api/explain", access.ExplainInConsole);
        view.Get("/console/api/operators", access.ListOperators);
        var operate = routes.ForOperators("operate");
        operate.Post<OperatorName, NoAnswer>("/console/api/operators/remove", access.RemoveOperator);
        operate.Post<OperatorName, NoAnswer>("/console/api/operators/end-sessions", access.EndSessions);
        operate.Post<LinkRequest, LinkAnswer>("/console/api/links", access.CreateLink);
        operate.Post<UserName, NoAnswer>("/console/api/sign-out-user", access.SignOutUser);
        operate.Post<UserName, StandInAnswer>("/console/api/stand-ins", access.StandIn);
        // So that nobody is locked out of the console.
        routes.ForMainKeys("admin").WithTags("Operators").Post<LinkRequest, LinkAnswer>("/v1/console-links", access.CreateConsoleLink)
            .Answers(201);
    }
}
