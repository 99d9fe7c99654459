using Rovett.Core.Ledgers.Commands.Sessions;
using Rovett.Service.Http;
using Rovett.Service.Intakes;
using Rovett.Service.Ledgers;

namespace Rovett.Service.Hosting;

/// <summary>Health checks for load balancers and supervisors.</summary>
/// <param name="ledger">The ledger.</param>
/// <param name="intakes">The intakes.</param>
public sealed class Health(LedgerPump ledger, IntakeList intakes)
{
    /// <summary>Tells that the process is alive.</summary>
    public Task CheckAlive(HttpContext context) => Say(context, "ok\n");

    /// <summary>Tells that the service takes requests.</summary>
    /// <remarks>While the store fails: 503, until a write goes through. A second line says how many intakes are waiting for their
    /// sources; the service is ready all the same.</remarks>
    public async Task CheckReady(HttpContext context)
    {
        if (ledger.StoreFailing) await ledger.Probe();
        else await ledger.Ask(new HeadCommand("main"));
        await Say(context, "ready\n" + Intakes());
    }

    string Intakes()
    {
        int all = intakes.All.Count, waiting = intakes.All.Count(i => i.Progress.Read().State == IntakeState.Waiting);
        return all == 0 ? "" : waiting == 0 ? $"{all} intakes\n" : $"{waiting} of {all} intakes {(waiting == 1 ? "waits" : "wait")}\n";
    }

    static Task Say(HttpContext context, string text)
    {
        context.Response.ContentType = "text/plain";
        return context.Response.WriteAsync(text);
    }
}

/// <summary>Where it is asked.</summary>
static class HealthRoutes
{
    public static void MapHealth(this IEndpointRouteBuilder routes)
    {
        var health = routes.ServiceProvider.GetRequiredService<Health>();
        var group = routes.MapGroup("").WithTags("Operation");
        group.ByHand("GET", "/healthz", health.CheckAlive).AnswersWith(null, "text/plain", "ok");
        group.ByHand("GET", "/readyz", health.CheckReady).AnswersWith(null, "text/plain", "ready").Refuses(503, "store-unavailable");
    }
}
