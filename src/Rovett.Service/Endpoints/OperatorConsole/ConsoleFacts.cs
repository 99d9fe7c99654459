using System.Collections.Concurrent;
using Rovett.Core.Ledgers;
using Rovett.Service.Audit;
using Rovett.Service.Cluster;
using Rovett.Service.Diagnostics;
using Rovett.Service.Endpoints.Admin;
using Rovett.Service.Endpoints.Backend;
using Rovett.Service.Events;
using Rovett.Service.Intakes;
using Rovett.Service.Limits;
using Rovett.Service.Live;
using Rovett.Service.Spaces;
using Rovett.Storage.Sql;
using Rovett.Storage.Access;

namespace Rovett.Service.Endpoints.OperatorConsole;

/// <summary>What the console tells of a space on every page, and on its first one.</summary>
public sealed class ConsoleFacts(SpaceDirectory spaces, SessionRegistry sessions, ActivityMonitor monitor, RulesInForce rules,
    SqlHistory history, Origins origins, UsageLimits limits, AccessStore access, AuditTrail audit, Faults faults, ServiceInfo info,
    IntakeList intakes, ServiceClock clock, IServiceProvider provider)
{
    const int MostChanges = 8, MostLimits = 5;
    static readonly TimeSpan CountsHold = TimeSpan.FromSeconds(10);

    readonly ConcurrentDictionary<int, (long At, long People, long Channels)> counts = new();

    /// <summary>Shows them.</summary>
    public async Task<FactsAnswer> ShowFacts(HttpContext context)
    {
        var space = ConsoleEndpoints.SpaceOf(spaces, context);
        var live = sessions.In(space.Name).ToList();
        var outstanding = live.Select(s => (long)s.Outstanding).ToList();
        var (sent, lastMinute) = monitor.Sent(space.Name);
        var (version, set) = await rules.Of(space);
        var (people, channels) = Counts(space);
        var nodes = provider.GetService<Nodes>();
        return new FactsAnswer
        {
            Node = nodes?.Name,
            Nodes = NodeAnswer.Of(nodes),
            Time = StoredTime.From(clock.GetUtcNow()),
            Since = info.Since,
            Sessions = live.GroupBy(s => s.TransportName).OrderBy(g => g.Key, StringComparer.Ordinal)
                .ToDictionary(g => g.Key, g => g.Count()),
            Behind = outstanding.Count(n => n > 0),
            Waiting = outstanding.Sum(),
            Live = live.Select(s => s.User).Distinct().Count(),
            People = people,
            LastMinute = lastMinute,
            Sent = sent,
            SetAside = history.CountSetAside(space.Id),
            Intakes = intakes.Of(space).Count(),
            IntakesWaiting = intakes.Of(space).Count(i => i.Progress.Read().State == IntakeState.Waiting),
            Rules = set.All.Count,
            RulesVersion = version,
            RulesFailed = set.All.Count(r => rules.UseOf(space, r.Name).Read().LastFailure is not null),
            Channels = channels,
            OriginsRefused = origins.Refused(space).Count,
            Steps = [.. Steps(space, people, version)],
            Operators = access.Operators().Count,
            Bugs = faults.Bugs,
            StoreFailures = faults.StoreFailures,
            HistoryBytes = info.HistoryBytes(),
            FreeBytes = info.FreeBytes(),
            Limits = [.. limits.All(space).Where(l => l.Limit > 0 && l.Used > 0).OrderByDescending(l => (double)l.Used / l.Limit)
                .Take(MostLimits).Select(l => new LimitState { Name = l.Name, Limit = l.Limit, Used = l.Used, What = l.What })],
            Changed = [.. audit.Newest(space.Name, MostChanges).Select(a => ActAnswer.Of(a, history))],
        };
    }

    /// <summary>What somebody who sets a space up has done so far, as the service saw it happen.</summary>
    IEnumerable<string> Steps(SpaceRuntime space, long people, long rulesVersion)
    {
        if (access.Keys(space.Name).Any(k => k.LastUsed is not null)) yield return "key";
        var (sent, received) = monitor.Ever(space);
        if (sent) yield return "sent";
        if (people > 0) yield return "connected";
        if (received) yield return "received";
        if (people > 1) yield return "second";
        if (rulesVersion > 0) yield return "rules";
        if (access.Webhooks().Any(w => w.Space == space.Name)) yield return "webhook";
    }

    /// <summary>Counting a hundred thousand people takes a while, and they change slowly.</summary>
    (long People, long Channels) Counts(SpaceRuntime space)
    {
        long now = clock.Due.Micros;
        if (counts.TryGetValue(space.Id, out var known) && now - known.At < (long)CountsHold.TotalMicroseconds)
        {
            return (known.People, known.Channels);
        }
        var (people, channels) = history.CountPeople(space.Id);
        counts[space.Id] = (now, people, channels);
        return (people, channels);
    }
}
