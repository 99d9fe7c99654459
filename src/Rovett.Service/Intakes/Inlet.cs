using Rovett.Core.Events;
using Rovett.Core.Ledgers;
using Rovett.Core.Ledgers.Commands.Events;
using Rovett.Core.Ledgers.Commands.Intakes;
using Rovett.Core.Rules;
using Rovett.Service.Credentials;
using Rovett.Service.Diagnostics;
using Rovett.Service.Events;
using Rovett.Service.Ledgers;
using Rovett.Service.Limits;
using Rovett.Service.Meters;
using Rovett.Service.Spaces;

namespace Rovett.Service.Intakes;

/// <summary>Where a source hands its events over. Each batch is on disk before the next one is fetched.</summary>
public sealed class Inlet(SpaceRuntime space, IntakeSettings settings, IntakeProgress progress, InletServices services,
    CancellationToken drain)
{
    static readonly TimeSpan FirstPause = TimeSpan.FromMilliseconds(100), LongestPause = TimeSpan.FromSeconds(5);

    /// <summary>The intake.</summary>
    public IntakeSettings Settings => settings;

    /// <summary>Its state and counts.</summary>
    public IntakeProgress Progress => progress;

    /// <summary>The space that its events are for.</summary>
    public SpaceRuntime Space => space;

    /// <summary>The clock.</summary>
    public TimeProvider Clock => services.Clock;

    /// <summary>For what an operator must know.</summary>
    public ILogger Log => services.Log;

    /// <summary>How far the source is read, part by part.</summary>
    public async Task<IReadOnlyDictionary<string, string>> Places() =>
        (await services.Ledger.Ask(new FindIntakeCommand(space.Name, settings.Name))).Positions.ToDictionary(p => p.Part, p => p.Value);

    /// <summary>Stores how far a part of the source was read when nothing is taken from it.</summary>
    public Task Remember(string place, string part = "") =>
        services.Ledger.Ask(new KeepPlaceCommand(space.Name, settings.Name, part, place));

    /// <summary>Logs a bug with its stack, and counts it.</summary>
    public void Bug(Exception error) => services.Faults.Bug(space.Name, $"intake {settings.Name}", error);

    /// <summary>The keys of backends.</summary>
    public ApiKeys Keys => services.Keys;

    /// <summary>Takes a batch, in order; returns once it is on disk. What would fail again is set aside; while the store fails, or
    /// too much is sent, it waits.</summary>
    /// <param name="batch">The batch.</param>
    /// <returns>What came of each, in the same order.</returns>
    /// <exception cref="OperationCanceledException">The intake is paused or stopped while it had to wait. Some of the batch may be on disk:
    /// it is recognised when it is handed over again.</exception>
    public async Task<IReadOnlyList<TakenItem>> Take(IReadOnlyList<SourceItem> batch)
    {
        var results = new List<TakenItem>(batch.Count);
        var prepared = await Prepare(batch);
        var pause = new GrowingPause(FirstPause, LongestPause);
        while (results.Count < batch.Count)
        {
            int from = results.Count;
            var part = prepared.GetRange(from, Parts.End(prepared, from, Parts.OneByOne, Notifications) - from);
            await WaitForRate(part.Sum(Notifications));
            var (taken, problem) = await Ask(part);
            for (int i = 0; i < taken.Count; i++) results.Add(new TakenItem(part[i].Event?.Event, taken[i]));
            if (taken.Count > 0)
            {
                Count(taken, part, batch[from].Since);
                pause.Reset();
            }
            progress.Is(problem is null ? IntakeState.Running : IntakeState.Waiting, problem?.Detail);
            if (problem is null) continue;
            TimeSpan? asked = problem.RetryAfterSeconds is { } seconds ? TimeSpan.FromSeconds(seconds) : null;
            await Task.Delay(pause.Next(asked), services.Clock, drain);
        }
        return results;
    }

    static int Notifications(HandedOver one) => one.Event?.Results.Sum(r => r.Drafts.Count) ?? 0;

    async Task<(IReadOnlyList<HandedOverResult> Taken, Problem? Blocked)> Ask(List<HandedOver> part)
    {
        try
        {
            var answer = await services.Ledger.Ask(new IntakeCommand(space.Name, settings.Name, part, services.Rules.Setting(space),
                space.Settings.KeepEventData));
            return (answer.Results, answer.Blocked);
        }
        catch (ProblemException refused) when (refused.Problem.Status is 429 or 503)
        {
            return ([], refused.Problem);
        }
        catch (Exception failed) when (LedgerPump.IsStoreFailure(failed))
        {
            return ([], LedgerPump.StoreFailed(failed));
        }
    }

    async Task WaitForRate(int drafts)
    {
        while (services.Limits.TakeFromSource(space, settings.Name, Math.Max(1, drafts)) is var wait && wait > TimeSpan.Zero)
        {
            await Task.Delay(wait, services.Clock, drain);
        }
    }

    async Task<List<HandedOver>> Prepare(IReadOnlyList<SourceItem> batch)
    {
        var inForce = await services.Rules.Of(space);
        var setting = services.Rules.Setting(space);
        return [.. batch.Select(item => Prepare(item, inForce, setting))];
    }

    HandedOver Prepare(SourceItem item, (long Version, RuleSet Set) inForce, RuleSetting setting)
    {
        var (found, why) = Read(item);
        return new HandedOver
        {
            Event = found is null ? null : RulesInForce.Evaluate(inForce, found, setting),
            Why = why ?? "",
            Detail = () => AsideDetail.Write(settings.Name, item.Origin, item.Raw),
            Origin = item.Origin,
            Part = item.Part,
            Place = item.Place,
        };
    }

    /// <summary>Whether something can be taken as an event, as far as can be told without the ledger.</summary>
    public bool IsEvent(SourceItem item) => Read(item).Event is not null;

    (IncomingEvent? Event, string? Why) Read(SourceItem item)
    {
        if (item.Why is not null) return (null, item.Why);
        try
        {
            var found = Allowed(space, settings, services, item.Raw);
            item.Key?.RequireMayPublish(found.Type, found.Source);
            return (found, null);
        }
        catch (ProblemException refused)
        {
            return (null, refused.Problem.Detail);
        }
    }

    static IncomingEvent Allowed(SpaceRuntime space, IntakeSettings? settings, InletServices services, RawEvent raw)
    {
        var found = settings is null ? EventReader.Raw(raw) : settings.Kind.Read(raw, services.Clock.GetUtcNow(), space.Settings.Zone);
        settings?.RequireMayBring(found.Type, found.Source);
        services.Checks.RequireFits(space, found);
        return found;
    }

    void Count(IReadOnlyList<HandedOverResult> taken, List<HandedOver> part, DateTimeOffset? oldest)
    {
        int events = 0, repeated = 0, unmatched = 0, notifications = 0, setAside = 0, failed = 0;
        string? reason = null;
        for (int i = 0; i < taken.Count; i++)
        {
            if (taken[i].Outcome is not { } outcome)
            {
                if (taken[i].SetAside is not null) setAside++;
                reason = taken[i].Why;
                continue;
            }
            events++;
            if (outcome.IsRepeated)
            {
                repeated++;
                continue;
            }
            services.Rules.Count(space, part[i].Event!);
            notifications += outcome.Notifications.Count;
            if (outcome.Matched.Count == 0) unmatched++;
            if (outcome.SetAside is null) continue;
            setAside++;
            failed++;
            reason = outcome.WhyFailed;
        }
        services.Meters.TookEvents(space.Name, "repeated", repeated);
        services.Meters.TookEvents(space.Name, "unmatched", unmatched);
        services.Meters.TookEvents(space.Name, "set_aside", failed);
        services.Meters.TookEvents(space.Name, "matched", events - repeated - unmatched - failed);
        progress.Took(events, repeated, unmatched, notifications, setAside, reason, oldest);
    }

    /// <summary>Retries something that was set aside.</summary>
    /// <param name="space">The space.</param>
    /// <param name="settings">The intake; null: it no longer exists.</param>
    /// <param name="services">What it needs.</param>
    /// <param name="number">The number that it is set aside under.</param>
    /// <param name="raw">It, or what is to be taken in its place.</param>
    /// <returns>What came of it; null: nothing is set aside by this number.</returns>
    internal static async Task<RetryResult?> Retry(SpaceRuntime space, IntakeSettings? settings, InletServices services, long number,
        RawEvent raw)
    {
        try
        {
            var found = Allowed(space, settings, services, raw);
            var setting = services.Rules.Setting(space);
            var evaluated = RulesInForce.Evaluate(await services.Rules.Of(space), found, setting);
            return await services.Ledger.Ask(new RetryHandedOverCommand(space.Name, number, evaluated, setting,
                space.Settings.KeepEventData));
        }
        catch (ProblemException refused) when (refused.Problem.Status is not (429 or 503))
        {
            return new RetryResult(number, refused.Problem.Detail, []);
        }
    }
}

/// <summary>Something that was handed over, and what came of it.</summary>
/// <param name="Event">The event; null: it was none.</param>
/// <param name="Result">What came of it.</param>
public sealed record TakenItem(IncomingEvent? Event, HandedOverResult Result);

/// <summary>What every inlet needs.</summary>
public sealed record InletServices(LedgerPump Ledger, RulesInForce Rules, EventChecks Checks, UsageLimits Limits, ServiceMeters Meters,
    ApiKeys Keys, ServiceClock Clock, Faults Faults, ILogger<Inlet> Log);
