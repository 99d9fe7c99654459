using Rovett.Core;
using Rovett.Core.Ledger;
using Rovett.Core.Presence;
using Rovett.Service.Access;

namespace Rovett.Service.Operations;

/// <summary>Has the ledger carry out what is due (expiries, ends of takings, deadlines), tell who came and left, and let go what retention takes,
/// a few at a time, so that nobody waits for it. What throws holds up neither other spaces nor other steps.</summary>
public sealed class Housekeeping : IDisposable
{
    static readonly TimeSpan Interval = TimeSpan.FromMilliseconds(250), LongestPause = TimeSpan.FromMinutes(1);
    const int Step = 256, MostTries = 3;

    readonly LedgerPump ledger;
    readonly SpaceDirectory spaces;
    readonly bool retention;
    readonly TimeProvider clock;
    readonly Repeating rounds;
    readonly Dictionary<(string Space, string Step), (int Failures, long NotBefore)> paused = [];
    readonly Dictionary<(string Space, DueRow Due), int> tries = [];

    /// <summary>Starts the timer.</summary>
    public Housekeeping(LedgerPump ledger, SpaceDirectory spaces, bool retention, TimeProvider clock, Faults faults)
    {
        (this.ledger, this.spaces, this.retention, this.clock) = (ledger, spaces, retention, clock);
        rounds = new Repeating(nameof(Housekeeping), Interval, clock, faults, Round);
    }

    async Task Round()
    {
        foreach (var space in spaces.All.Select(s => s.Name))
        {
            await Guarded(space, "due", () => Dues(space));
            await Guarded(space, "presence", () => ledger.Ask(new PresenceRoundCommand(space)));
            if (retention) await Guarded(space, "retention", () => All(() => ledger.Ask(new TrimCommand(space, Step))));
        }
        await Guarded("", "purge", async () =>
        {
            while (await ledger.Ask(new PurgeCommand(Step)))
            {
            }
        });
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

    static async Task All(Func<Task<int>> step)
    {
        while (await step() == Step)
        {
        }
    }

    async Task Dues(string space)
    {
        try
        {
            await All(() => ledger.Ask(new DueCommand(space, Step)));
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
