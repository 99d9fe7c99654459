using Rovett.Core.Ledgers;
using Rovett.Service.Diagnostics;
using Rovett.Service.Ledgers;
using Rovett.Service.Live;
using Rovett.Service.Spaces;
using Rovett.Service.Tls;
using Rovett.Storage.Homes;

namespace Rovett.Service.Cluster;

/// <summary>Registers what makes this process one of several nodes.</summary>
static class ClusterSetup
{
    public static IServiceCollection AddCluster(this IServiceCollection services, NodeIdentity? me)
    {
        services.AddSingleton(new Lease(me is null ? null : new BootClock()));
        if (me is null) return services;
        return services.AddSingleton(me).AddSingleton<NodeDoor>().AddSingleton<Serving>().AddHttpForwarder()
            .AddSingleton(p => new Nodes(me, (PostgresHome)p.GetRequiredService<IStoreHome>(), p.GetRequiredService<ServiceInfo>(),
                p.GetRequiredService<Lease>(), p.GetRequiredService<Serving>(), p.GetRequiredService<SpaceDirectory>(),
                p.GetRequiredService<SessionRegistry>(), p.GetRequiredService<LedgerPump>(), p.GetRequiredService<RevocationGate>(),
                p.GetRequiredService<Faults>(),
                p.GetRequiredService<ILogger<Nodes>>()))
            .AddSingleton<RevocationGate>().AddSingleton<IAnswerGate>(p => p.GetRequiredService<RevocationGate>())
            .AddSingleton<NodeConnections>().AddSingleton<LinkPool>().AddSingleton<LinkServices>().AddSingleton<SessionSides>()
            .AddSingleton<Relay>()
            .AddLinks();
    }

    static IServiceCollection AddLinks(this IServiceCollection services)
    {
        services.AddGrpc(o =>
        {
            o.MaxReceiveMessageSize = null;
            o.MaxSendMessageSize = null;
        });
        return services.AddSingleton<LinkDoor>();
    }

    /// <summary>Takes the links of other nodes.</summary>
    public static void MapLinks(this WebApplication app)
    {
        if (app.Services.GetService<NodeIdentity>() is not null) app.MapGrpcService<LinkDoor>();
    }

    /// <summary>Answers what is of this node's spaces here, and passes the rest on.</summary>
    public static void UseCluster(this WebApplication app)
    {
        if (app.Services.GetService<NodeIdentity>() is null) return;
        Relay? relay = null; // begun once this node listens
        app.Use(next => context => (relay ??= app.Services.GetRequiredService<Relay>()).Invoke(context, next));
    }
}
