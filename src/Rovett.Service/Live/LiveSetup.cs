using Rovett.Core.Delivery;
using Rovett.Service.Audit;
using Rovett.Service.Credentials;
using Rovett.Service.Diagnostics;
using Rovett.Service.Ledgers;
using Rovett.Service.Meters;
using Rovett.Service.Options;
using Rovett.Storage.Access;

namespace Rovett.Service.Live;

/// <summary>Registers live sessions.</summary>
static class LiveSetup
{
    const int MaxQueued = 256;

    /// <param name="services">The services.</param>
    /// <param name="switches">What is broken on purpose; null: nothing.</param>
    public static IServiceCollection AddLive(this IServiceCollection services, FaultSwitches? switches)
    {
        if (switches is not null) services.AddSingleton(switches);
        return services.AddSingleton(Limits).AddSingleton<SessionRegistry>()
            .AddSingleton(p => new ServiceMeters(p.GetRequiredService<TimeProvider>(), p.GetRequiredService<SessionRegistry>().Count,
            p.GetRequiredService<Faults>()))
            .AddSingleton<DeviceRequests>().AddSingleton<LiveServices>();
    }

    static SessionLimits Limits(IServiceProvider p)
    {
        var options = p.GetRequiredService<RovettOptions>();
        return new SessionLimits
        {
            Window = options.Window,
            MaxQueued = MaxQueued,
            Heartbeat = TimeSpan.FromSeconds(options.HeartbeatSeconds),
            AckTimeout = TimeSpan.FromSeconds(options.AckTimeoutSeconds),
        };
    }

    /// <summary>Ends sessions whose signing key a key set no longer shows, and those that are broken on purpose.</summary>
    public static void EndSessionsWithTheirKeys(this IServiceProvider provider)
    {
        var (sessions, audit) = (provider.GetRequiredService<SessionRegistry>(), provider.GetRequiredService<AuditTrail>());
        if (provider.GetService<FaultSwitches>() is { } switches) switches.Blocked += sessions.CutWebSockets;
        provider.GetRequiredService<SigningKeys>().Dropped += (space, name, ids) =>
        {
            int ended = 0;
            foreach (var session in sessions.In(space).Where(s => s.Credential.SigningKey == name && ids.Contains(s.Credential.KeyId)))
            {
                session.End("signing-key-removed", null);
                ended++;
            }
            audit.Note(space, "service", "signing-key.withdrawn", name, json =>
            {
                json.WriteNumber("keys", ids.Count);
                json.WriteNumber("sessionsEnded", ended);
            });
        };
    }

    /// <summary>Passes acknowledgements on to the node that serves the space by now.</summary>
    public static void MoveAcknowledgements(this IServiceProvider provider)
    {
        var sessions = provider.GetRequiredService<SessionRegistry>();
        provider.GetRequiredService<AckBuffer>().Elsewhere = (space, user, device, handled, runs) =>
            sessions.In(space).OfType<LiveSession>().FirstOrDefault(s => s.Stays && s.User == user && s.Device == device)
                ?.AcknowledgedAgain(handled, runs);
    }

    /// <summary>Ends sessions whose credentials another process ended; to be told after those who check credentials.</summary>
    public static void FollowSessions(this IServiceProvider provider, AccessNews news)
    {
        var (sessions, tokens) = (provider.GetRequiredService<SessionRegistry>(), provider.GetRequiredService<Tokens>());
        news.On(AccessKinds.SigningKeys, space =>
        {
            foreach (var session in sessions.All.Where(s => space is null || s.Space.Name == space))
            {
                if (!tokens.StillHolds(session.Space, session.Credential)) session.End("signing-key-removed", null);
            }
        });
        news.On(AccessKinds.Operators, _ =>
        {
            foreach (var session in sessions.All.Where(s => StandIns.Is(s.Credential)))
            {
                if (!tokens.StillHolds(session.Space, session.Credential)) session.End("signed-out", null);
            }
        });
    }
}
