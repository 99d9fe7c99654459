using System.Text.Json;
using Rovett.Core.Ledgers;
using Rovett.Core.Ledgers.Commands.Sessions;
using Rovett.Core.Store;
using Rovett.Service.Audit;
using Rovett.Service.Cluster;
using Rovett.Service.Credentials;
using Rovett.Service.Diagnostics;
using Rovett.Service.Http;
using Rovett.Service.Ledgers;
using Rovett.Service.Limits;
using Rovett.Service.Live;
using Rovett.Storage.Sql;

namespace Rovett.Service.Endpoints.Backend;

/// <summary>How the service is: what runs, who is connected, what limits are at.</summary>
public sealed class StatusApi(LedgerPump ledger, SqlHistory history, SessionRegistry sessions, Origins origins, UsageLimits limits,
    ServiceInfo info, Faults faults, ServiceClock clock, AuditTrail audit, IServiceProvider provider)
{
    const int ComesBackWithinMs = 1000, MostFaults = 20, MostSetAside = 50, MostSessions = 1000;

    /// <summary>Shows how the service and the space are.</summary>
    public async Task<StatusAnswer> ShowStatus(HttpContext context)
    {
        var space = context.KeyCaller().Space;
        var live = sessions.In(space.Name).ToList();
        var nodes = provider.GetService<Nodes>();
        var head = await ledger.Ask(new HeadCommand(space.Name));
        return new StatusAnswer
        {
            Version = ServiceInfo.Version,
            Since = info.Since,
            Node = nodes?.Name,
            Nodes = NodeAnswer.Of(nodes),
            Space = space.Name,
            Epoch = info.Epoch.ToString(),
            Position = head.Value,
            Sessions = live.Count,
            Users = live.Select(s => s.User).Distinct().Count(),
            Transports = live.GroupBy(s => s.TransportName).OrderBy(g => g.Key).ToDictionary(g => g.Key, g => g.Count()),
            OriginsRefused = [.. origins.Refused(space).Select(r => RefusedOriginAnswer.Of(r, space))],
            Bugs = faults.Bugs,
            StoreFailures = faults.StoreFailures,
            Faults = [.. faults.Of(space.Name).Take(MostFaults).Select(f =>
                new FaultAnswer { Where = f.Where, What = f.What, Count = f.Count, Last = f.Last })],
            Erasures = history.Erasures(space.Id),
            SetAside = [.. history.SetAside(space.Id, MostSetAside).Select(Answer)],
            Clock = ClockReadings.Of(clock),
            Data = info.Home.Name,
            HistoryBytes = info.HistoryBytes(),
            ResidentBytes = Environment.WorkingSet,
            LiveBytes = ServiceInfo.LiveBytes(),
        };
    }

    static SetAsideAnswer Answer(SetAsideRow aside) => new()
    {
        Time = aside.Time,
        Kind = Events.SetAsideApi.NameOf(aside.Kind),
        Position = aside.Position,
        Why = aside.Why,
        Detail = aside.Kind is AsideKind.Event or AsideKind.Gathering
            ? JsonElement.Parse($"{{\"number\":{aside.Number}}}")
            : JsonElement.Parse(aside.Detail),
    };

    /// <summary>Lists the limits.</summary>
    /// <remarks>Every limit, what it is set to, and the most that is used of it now.</remarks>
    public Task<LimitList> ListLimits(HttpContext context)
    {
        var space = context.KeyCaller().Space;
        return Task.FromResult(new LimitList
        {
            Limits = [.. limits.All(space).Select(l =>
                new LimitAnswer { Name = l.Name, Limit = l.Limit > 0 ? l.Limit : null, Used = l.Used, What = l.What })],
        });
    }

    /// <summary>Lists the sessions that are open.</summary>
    public Task<SessionList> ListSessions(HttpContext context)
    {
        var space = context.KeyCaller().Space;
        return Task.FromResult(new SessionList
        {
            Sessions = [.. sessions.In(space.Name).OrderBy(s => s.Since.Micros).Take(MostSessions).Select(SessionAnswer.Of)],
        });
    }

    /// <summary>Ends a session.</summary>
    /// <remarks>The device is told. It reconnects within a second and continues where it was. To keep a user out, sign the user out or
    /// block the user.</remarks>
    public Task<NoAnswer> EndSession(HttpContext context)
    {
        var (space, key) = context.KeyCaller();
        var id = context.Known("session");
        if (sessions.Find(id) is not { } session || session.Space != space || session.Place is not { User: var user })
        {
            throw new Problem(404, "unknown-session", "No such session", "This space has no live session with this id; it may have ended.",
                "List them: GET /v1/sessions.").ToException();
        }
        session.End("ended", ComesBackWithinMs);
        audit.Note(space.Name, key.Actor, "session.ended", AuditTrail.Person(user.PersonId));
        return NoAnswer.To(context);
    }
}
