using Rovett.Core.Ledgers.Commands.Sessions;
using Rovett.Service.Cluster;
using Rovett.Service.Http;
using Rovett.Service.Intakes;
using Rovett.Service.Ledgers;

namespace Rovett.Service.Hosting;

/// <summary>Health checks for load balancers and supervisors.</summary>
/// <param name="ledger">The ledger.</param>
/// <param name="intakes">The intakes.</param>
/// <param name="lease">For how long this process may act.</param>
/// <param name="provider">Has the nodes, if there are several.</param>
public sealed class Health(LedgerPump ledger, IntakeList intakes, Lease lease, IServiceProvider provider)
{
    /// <summary>Tells that the process is alive.</summary>
    public Task CheckAlive(HttpContext context) => Say(context, "ok\n");

    /// <summary>Tells that the service takes requests.</summary>
    /// <remarks>While the store fails: 503, until a write goes through. A second line says how many intakes are waiting for their
    /// sources; the service is ready all the same.</remarks>
    public async Task CheckReady(HttpContext context)
    {
        var nodes = provider.GetService<Nodes>();
        if (nodes is not null) RequireNode(nodes);
        if (ledger.StoreFailing) await ledger.Probe();
        else if (nodes is null) await ledger.Ask(new HeadCommand("main"));
        await Say(context, "ready\n" + Spaces(nodes) + Intakes());
    }

    void RequireNode(Nodes nodes)
    {
        if (nodes.IsLeaving)
        {
            throw new Problem(503, "node-leaving", "This node serves no spaces", "It gives its spaces up and passes requests on.",
                "Send requests to other nodes; 'rovett cluster drain --end' has it serve spaces again.").ToException();
        }
        if (lease.Holds && nodes.IsCutOff)
        {
            throw new Problem(503, "node-cut-off", "This node can't reach others",
                $"It can't reach {string.Join(", ", nodes.Unreached)}; other nodes reach the nodes of more spaces.",
                "Check the network between the nodes' addresses; it is ready again by itself.")
            { RetryAfterSeconds = 1 }.ToException();
        }
        if (lease.Holds && nodes.Now is not null) return;
        throw new Problem(503, "node-unavailable", "This node can't reach the database",
            "It has not reached the database for seconds: other nodes may serve its spaces by now.",
            "Check the network between the node and the database; it is ready again by itself.")
        { RetryAfterSeconds = 1 }.ToException();
    }

    static string Spaces(Nodes? nodes)
    {
        if (nodes?.Now is not { } now) return "";
        return $"{nodes.SpacesServed} of {now.Spaces.Count} spaces\n" + (nodes.ClockDiffers
            ? "the clocks of this machine and of the database differ: it takes no spaces\n" : "")
            + (nodes.Unreached is { Count: > 0 } lost ? $"can't reach {string.Join(", ", lost)}\n" : "");
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
        group.ByHand("GET", "/readyz", health.CheckReady).AnswersWith(null, "text/plain", "ready").Refuses(503, "store-unavailable")
            .Refuses(503, "node-leaving").Refuses(503, "node-unavailable").Refuses(503, "node-cut-off");
    }
}
