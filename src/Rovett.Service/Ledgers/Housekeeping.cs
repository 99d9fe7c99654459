using Rovett.Core.Ledgers;
using Rovett.Core.Ledgers.Commands.Directory;
using Rovett.Core.Ledgers.Commands.Life;
using Rovett.Core.Ledgers.Commands.Marking;
using Rovett.Core.Ledgers.Commands.Spaces;
using Rovett.Core.Ledgers.Commands.Topics;
using Rovett.Core.Store;
using Rovett.Service.Diagnostics;
using Rovett.Service.Options;
using Rovett.Service.Spaces;

namespace Rovett.Service.Ledgers;

/// <summary>Runs due work in the ledger (expiries, ends of takings, deadlines), announces arrivals and departures, and deletes what
/// retention no longer keeps, in small steps so that nobody waits for it. A failure in one space or step does not delay the
/// others.</summary>
public sealed class Housekeeping : IDisposable
{
    static readonly TimeSpan Interval = TimeSpan.FromMilliseconds(250), LongestPause = TimeSpan.FromMinutes(1),
        CheckEvery = TimeSpan.FromSeconds(30), SaveClockEvery = TimeSpan.FromMinutes(5), ChoicesEvery = TimeSpan.FromHours(1),
        LongestRepeats = TimeSpan.FromDays(36_500);
    const int Step = 256, DueStep = 32, TrimStep = 100, PurgeStep = 100, MostTries = 3, CheckParts = 64;

    readonly LedgerPump ledger;
    readonly SpaceDirectory spaces;
    readonly Agendas agendas;
    readonly RovettOptions options;
    readonly ServiceClock clock;
    readonly ILogger log;
    readonly Repeating rounds;
    readonly Action<string, ErasureRow> erased;
    readonly Func<string, TimeSpan?> repeatsLonger;
    long saveClockAfter, choicesAfter, checkAfter;
    int checkPart;
    bool stepTold;
    readonly Dictionary<(string Space, string Step), (int Failures, long NotBefore)> paused = [];
    readonly Dictionary<(string Space, DueRow Due), int> tries = [];

    /// <summary>Starts the timer.</summary>
    public Housekeeping(LedgerPump ledger, SpaceDirectory spaces, RovettOptions options, Agendas agendas, ServiceClock clock, Faults faults,
        Action<string, ErasureRow> erased, Func<string, TimeSpan?> repeatsLonger, ILogger<Housekeeping> log)
    {
        (this.ledger, this.spaces, this.agendas, this.clock, this.erased, this.log) = (ledger, spaces, agendas, clock, erased, log);
        (this.repeatsLonger, this.options) = (repeatsLonger, options);
        rounds = new Repeating(nameof(Housekeeping), Interval, clock, faults, Round);
    }

    async Task Round()
    {
        await Guarded("", "clock", LookAtClock);
        bool hourly = clock.Due.Micros >= choicesAfter;
        if (hourly) choicesAfter = clock.Due.Micros + (long)ChoicesEvery.TotalMicroseconds;
        bool checks = clock.GetTimestamp() >= checkAfter;
        if (checks)
        {
            checkAfter = clock.GetTimestamp() + (long)(CheckEvery.TotalSeconds * clock.TimestampFrequency);
            checkPart = (checkPart + 1) % CheckParts;
        }
        var keepFor = (long?)options.KeepForSpan?.TotalMicroseconds;
        long keepCount = options.KeepCount > 0 ? options.KeepCount : long.MaxValue;
        foreach (var (space, settings) in spaces.Here.Select(s => (s.Name, s.Settings)))
        {
            var agenda = agendas.Of(space);
            if (agenda.NextDue <= clock.Due) await Guarded(space, "due", () => Dues(space));
            if (agenda.IsErasing) await Guarded(space, "erasures", () => Erasures(space));
            if (agenda.IsWatched) await Guarded(space, "presence", () => ledger.Ask(new PresenceRoundCommand(space)));
            if (checks && agenda.IsConnected)
            {
                await Guarded(space, "totals", () => ledger.Ask(new CheckTotalsCommand(space, checkPart, CheckParts)));
            }
            if (hourly) await Guarded(space, "choices", () => ledger.Ask(new ChoicesRoundCommand(space)));
            bool isOver = agenda.Stored > keepCount || (keepFor is { } keep && agenda.Oldest.Micros <= clock.Retention.Micros - keep);
            if (!isOver) continue;
            await Guarded(space, "retention",
                () => All(TrimStep, () => ledger.Ask(new TrimCommand(space, TrimStep, Repeats(space, settings)))));
        }
        if (!agendas.MayPurge || !HasMain) return;
        await Guarded("", "purge", async () =>
        {
            while (await ledger.Ask(new PurgeCommand(PurgeStep)))
            {
            }
        });
    }

    /// <summary>What belongs to no space goes with the space main.</summary>
    bool HasMain => spaces.Find("main") is { IsHere: true };

    /// <summary>How long repeats of an event are recognised: longer while a source was not told that its events are taken.</summary>
    TimeSpan Repeats(string space, SpaceSettings settings) =>
        repeatsLonger(space) is { } longer ? settings.RepeatsKeptFor + longer : LongestRepeats;

    /// <summary>Tells of a step of the system's clock, believes it once it has lasted, and stores now and then what the time is.</summary>
    async Task LookAtClock()
    {
        var step = clock.Step;
        if (step is { } by && !stepTold)
        {
            log.LogWarning("The system's clock was set {By} {Direction}. It is believed if it stays so for {Minutes} minutes, or at " +
                "once by 'rovett clock --confirm'", by.By.Duration(), by.By > TimeSpan.Zero ? "ahead" : "back",
                ServiceClock.ConfirmAfter.TotalMinutes);
        }
        else if (step is null && stepTold) log.LogInformation("The system's clock is right again");
        stepTold = step is not null;
        if (clock.StepHasLasted && step is { } lasting) await Believe(lasting);
        if (clock.GetTimestamp() < saveClockAfter) return;
        saveClockAfter = clock.GetTimestamp() + (long)(SaveClockEvery.TotalSeconds * clock.TimestampFrequency);
        if (HasMain) await ledger.Ask(new SaveClockCommand());
    }

    /// <summary>Believes a step of the system's clock from now on.</summary>
    public async Task Believe(ClockStep step)
    {
        clock.Believe(HasMain ? await ledger.Believe(step) : step);
        stepTold = false;
        log.LogWarning("The system's clock is believed from now on: the time went {By} {Direction}. Retention {Retention}",
            step.By.Duration(), step.By > TimeSpan.Zero ? "ahead" : "back",
            clock.RetentionHeldBack > TimeSpan.Zero
            ? "waits: it follows after 24 hours, or at once by 'rovett clock --confirm'"
            : "follows");
    }

    /// <summary>Runs a step. One that fails by a bug is tried again after a pause that doubles.</summary>
    async Task Guarded(string space, string step, Func<Task> work)
    {
        var key = (space, step);
        if (paused.TryGetValue(key, out var pause) && clock.GetTimestamp() < pause.NotBefore) return;
        try
        {
            await work();
            paused.Remove(key);
        }
        catch (ProblemException)
        {
            // There is too much to do, or the space was removed meanwhile: the next round finds out.
        }
        catch (Exception error)
        {
            if (LedgerPump.IsStoreFailure(error)) return; // told by the ledger; the next round tries again
            // The ledger has told of what its commands threw.
            var wait = TimeSpan.FromSeconds(Math.Min(Math.Pow(2, pause.Failures), LongestPause.TotalSeconds));
            paused[key] = (pause.Failures + 1, clock.GetTimestamp() + (long)(wait.TotalSeconds * clock.TimestampFrequency));
        }
    }

    static async Task All(int most, Func<Task<int>> step)
    {
        while (await step() == most)
        {
        }
    }

    /// <summary>Carries erasures on that nobody waits for: they were begun before a restart, or the caller is gone.</summary>
    async Task Erasures(string space)
    {
        while (await ledger.Ask(new EraseStepCommand(space)) is { } state)
        {
            if (state.Done) erased(space, state.Row);
        }
    }

    async Task Dues(string space)
    {
        try
        {
            await All(DueStep, () => ledger.Ask(new DueCommand(space, DueStep)));
        }
        catch (Exception error) when (error is not ProblemException && !LedgerPump.IsStoreFailure(error))
        {
            await DuesOneByOne(space);
        }
    }

    /// <summary>One of them has a bug: the others are carried out, and it is set aside after a few tries.</summary>
    async Task DuesOneByOne(string space)
    {
        foreach (var due in await ledger.Ask(new ListDueCommand(space, Step)))
        {
            try
            {
                await ledger.Ask(new DueCommand(space, 1, due));
            }
            catch (Exception error) when (error is not ProblemException && !LedgerPump.IsStoreFailure(error))
            {
                int count = tries[(space, due)] = tries.GetValueOrDefault((space, due)) + 1;
                if (count < MostTries) continue;
                await ledger.Ask(new SetDueAsideCommand(space, due, $"{error.GetType().Name}, {count} times"));
                tries.Remove((space, due));
            }
        }
    }

    /// <inheritdoc/>
    public void Dispose() => rounds.Dispose();
}
