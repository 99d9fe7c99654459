using Rovett.Core.Ledgers;
using Rovett.Service.Audit;
using Rovett.Service.Backups;
using Rovett.Service.Cluster;
using Rovett.Service.Credentials;
using Rovett.Service.Diagnostics;
using Rovett.Service.Endpoints.Admin;
using Rovett.Service.Endpoints.Backend;
using Rovett.Service.Endpoints.Events;
using Rovett.Service.Endpoints.Intakes;
using Rovett.Service.Endpoints.Live;
using Rovett.Service.Endpoints.OperatorConsole;
using Rovett.Service.Endpoints.User;
using Rovett.Service.Http;
using Rovett.Service.Intakes;
using Rovett.Service.Intakes.Reading;
using Rovett.Service.Ledgers;
using Rovett.Service.Limits;
using Rovett.Service.Live;
using Rovett.Service.Meters;
using Rovett.Service.Options;
using Rovett.Service.Outbound;
using Rovett.Service.Receipts;
using Rovett.Service.Reference;
using Rovett.Service.Spaces;
using Rovett.Service.Telemetry;
using Rovett.Service.Tls;
using Rovett.Service.Topics;
using Rovett.Storage.Access;
using Rovett.Storage.Homes;

namespace Rovett.Service.Hosting;

/// <summary>All that the service is made of, feature by feature.</summary>
static class Composition
{
    public static void AddRovett(this IServiceCollection services, RovettOptions options, IStoreHome home, ServiceClock clock,
        FaultSwitches? switches, NodeIdentity? node)
    {
        services.AddSingleton(options).AddSingleton(home).AddSingleton(clock).AddSingleton<TimeProvider>(clock);
        services.AddSingleton<Supervisor>().AddSingleton<BackupRounds>().AddSingleton<StateMeters>();
        services.AddSingleton<Health>().AddSingleton<FirstStart>().AddSingleton(OpenSpaces);
        services.AddSingleton(
            p => new ServiceInfo(p.GetRequiredService<LaneStores>().First.Epoch, StoredTime.From(clock.GetUtcNow()), home));
        services.AddJson().AddReference().AddCluster(node);
        services.AddLedgers().AddCredentials().AddLimits().AddAudit().AddOutbound().AddTopics().AddReceipts().AddLive(switches)
            .AddMeters().AddIntakes(options);
        services.AddExports(options);
        services.AddBackendEndpoints().AddEventEndpoints().AddIntakeEndpoints().AddAdminEndpoints().AddUserEndpoints().AddLiveEndpoints()
            .AddConsoleEndpoints();
        services.AddSingleton(p => new Housekeeping(p.GetRequiredService<LedgerPump>(), p.GetRequiredService<SpaceDirectory>(),
            options, p.GetRequiredService<Agendas>(), clock, p.GetRequiredService<Faults>(),
            p.GetRequiredService<UsersApi>().Erased, p.GetRequiredService<IntakeList>().RepeatsLonger,
            p.GetRequiredService<ILogger<Housekeeping>>()));
    }

    /// <summary>Starts what works by itself, whether or not a request asks for it.</summary>
    public static void StartRounds(this IServiceProvider provider)
    {
        provider.GetRequiredService<AccessStore>()
            .AddStart(new StoredStart(provider.GetRequiredService<ServiceInfo>().Since.Micros, ServiceInfo.Version));
        provider.GetRequiredService<MeterKeeper>();
        provider.GetRequiredService<BackupRounds>();
        provider.GetRequiredService<StateMeters>();
        provider.EndSessionsWithTheirKeys();
        provider.MoveAcknowledgements();
        provider.FollowOtherProcesses();
        provider.GetRequiredService<KeySetRounds>();
        provider.GetRequiredService<WebhookSender>();
        provider.GetRequiredService<OutboundSender>();
        provider.GetRequiredService<Housekeeping>();
        provider.GetRequiredService<IntakeList>().Start();
    }

    static SpaceDirectory OpenSpaces(IServiceProvider provider)
    {
        // What other processes change from here on is heard of, whatever is read when.
        provider.GetRequiredService<AccessNews>();
        return provider.GetRequiredService<FirstStart>().OpenSpaces();
    }

    static void FollowOtherProcesses(this IServiceProvider provider)
    {
        var news = provider.GetRequiredService<AccessNews>();
        var api = provider.GetRequiredService<SpacesApi>();
        news.On(AccessKinds.Spaces, _ => api.Refresh()); // first: what else is told may be of a new one
        provider.FollowCredentials(news);
        provider.FollowSessions(news);
        provider.FollowDeciders(news);
        provider.FollowWebhooks(news);
        news.Start();
    }
}
