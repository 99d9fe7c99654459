using Rovett.Core.Ledgers;
using Rovett.Service.Audit;
using Rovett.Service.Credentials;
using Rovett.Service.Http;
using Rovett.Service.Meters;
using Rovett.Storage.Access;

namespace Rovett.Service.Endpoints.Backend;

/// <summary>What the meters of a space counted.</summary>
public sealed class MetersApi(MeterKeeper keeper, AccessStore access, AuditTrail audit, ServiceClock clock)
{
    const int MostChanges = 40, MostActs = 200;
    static readonly string[] Changing =
    [
        "policies.", "rules.", "types.", "api-key.made", "api-key.rotated", "api-key.revoked", "signing-key.", "settings.", "decider.",
        "webhook.",
    ];

    /// <summary>Shows what the meters counted.</summary>
    /// <remarks>Steps of equal length up to now, kept across restarts, and what was changed meanwhile.</remarks>
    public Task<MetersAnswer> ShowMeters(HttpContext context, Given<MetersQuery> query)
    {
        var space = context.KeyCaller().Space;
        var window = MeterWindow.All.First(w => w.Name == (query.Sound().Over ?? "15m"));
        keeper.Gather();
        var own = keeper.Over(space.Name, window);
        var whole = keeper.Over("", window);
        var all = new Counted();
        foreach (var (_, counted) in own) all.Add(counted);
        var from = StoredTime.From(own[0].Start);
        return Task.FromResult(new MetersAnswer
        {
            Over = window.Name,
            StepSeconds = (int)window.StepSeconds,
            From = from,
            To = StoredTime.From(clock.GetUtcNow()),
            DelayP50 = all.Delay(0.5),
            DelayP99 = all.Delay(0.99),
            Steps = [.. own.Zip(whole, (o, w) => Answer(o.Start, o.Counted, w.Counted))],
            Changes = [.. Changes(space.Name, from)],
        });
    }

    static MeterStepAnswer Answer(DateTimeOffset start, Counted own, Counted whole) => new()
    {
        Start = StoredTime.From(start),
        Sends = own.Stored,
        Events = own.Events,
        Dispatched = own.Sent,
        Received = own.Received,
        Refused = own.Refused,
        Faults = whole.Faults,
        Sessions = own.Sessions,
        Waiting = own.Waiting,
        StoreBytes = whole.StoreBytes,
        DelayP50 = own.Delay(0.5),
        DelayP99 = own.Delay(0.99),
    };

    IEnumerable<ChangeAnswer> Changes(string space, StoredTime from)
    {
        var starts = access.Starts(from.Micros, MostChanges)
            .Select(s => new ChangeAnswer { Time = new StoredTime(s.Time), What = "service.started", About = s.Version });
        var acts = audit.Newest(space, MostActs).Where(a => a.Time >= from.Micros && Changing.Any(a.Act.StartsWith))
            .Select(a => new ChangeAnswer { Time = new StoredTime(a.Time), What = a.Act, About = a.About });
        return starts.Concat(acts).OrderByDescending(c => c.Time.Micros).Take(MostChanges);
    }
}
