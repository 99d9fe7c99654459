using Rovett.Core.Ledgers;
using Rovett.Core.Ledgers.Commands.Life;
using Rovett.Core.Nodes;
using Rovett.Core.Store;
using Rovett.Service.Diagnostics;
using Rovett.Service.Meters;
using Rovett.Storage.Sql;

namespace Rovett.Service.Ledgers;

/// <summary>Has every command carried out on the lane of its space. A lane is a ledger with a thread and a connection of its own;
/// a data folder has one, a database may have several, so that one space's work does not wait for another's.</summary>
public sealed class LedgerPump : IDisposable
{
    readonly Lane[] lanes;

    /// <summary>Starts the lanes.</summary>
    /// <param name="stores">A store for each lane. The first also has what is about no space, or about all.</param>
    /// <param name="open">Makes a ledger.</param>
    /// <param name="maxWait">A send that would wait longer than this for its turn is refused.</param>
    /// <param name="meters">Count what is carried out.</param>
    /// <param name="faults">Hears of bugs.</param>
    public LedgerPump(IEnumerable<ILedgerStore> stores, Func<ILedgerStore, INodeLink, Ledger> open, TimeSpan maxWait, LaneMeters meters,
        Faults faults)
    {
        lanes = [.. stores.Select(s => new Lane(link => open(s, link), maxWait, meters, faults))];
        meters.Watch(() => lanes.Select(l => l.Waits));
    }

    Lane LaneOf(string space) => lanes.Length == 1 || space.Length == 0 ? lanes[0] : lanes[Hash(space) % (uint)lanes.Length];

    // The same after each start, so that what is measured can be measured again.
    static uint Hash(string space)
    {
        uint hash = 2166136261;
        foreach (char c in space) hash = (hash ^ c) * 16777619;
        return hash;
    }

    /// <summary>Asks the ledger; the answer comes when it is on disk.</summary>
    /// <exception cref="ProblemException">Refused by the command, or 503: the queue is full or the store can't be written.</exception>
    public Task<T> Ask<T>(LedgerCommand<T> command) => LaneOf(command.Space).Ask(command);

    /// <summary>Asks for several things in order, all at once, so that they share commits while nobody else asks. Once one is refused
    /// because too much waits, those after it are refused with it.</summary>
    /// <returns>The answers, all of which have come or failed.</returns>
    public async Task<IReadOnlyList<Task<T>>> AskAll<T>(IEnumerable<LedgerCommand<T>> commands)
    {
        var answers = new List<Task<T>>();
        ProblemException? refused = null;
        foreach (var command in commands)
        {
            try
            {
                answers.Add(refused is null ? Ask(command) : Task.FromException<T>(refused));
            }
            catch (ProblemException overloaded)
            {
                refused = overloaded;
                answers.Add(Task.FromException<T>(refused));
            }
        }
        await ((Task)Task.WhenAll(answers)).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        return answers;
    }

    /// <summary>Believes a step of the system's clock, with everything else held.</summary>
    public async Task<ClockStep> Believe(ClockStep step)
    {
        if (lanes.Length == 1) return await Ask(new BelieveStepCommand(step));
        return await Task.Run(() => WithAllHeld(step));
    }

    ClockStep WithAllHeld(ClockStep step)
    {
        var held = new List<Lane.Turn>(lanes.Length);
        try
        {
            foreach (var lane in lanes) held.Add(lane.Hold());
            var command = new BelieveStepCommand(step);
            held[0].CarryOut(command);
            var believed = command.Task.GetAwaiter().GetResult(); // the thread of its sessions is not held
            foreach (var other in held.Skip(1)) other.CarryOut(command.ForOthers());
            return believed;
        }
        finally
        {
            foreach (var one in held) one.Dispose();
        }
    }

    /// <summary>How long the longest batch under way has taken so far.</summary>
    public TimeSpan LongestUnderWay => lanes.Max(l => l.UnderWay);

    /// <summary>The last attempt to write to the store failed.</summary>
    public bool StoreFailing => Array.Exists(lanes, l => l.StoreFailing);

    /// <summary>Finds out whether the lanes that failed can write again.</summary>
    /// <exception cref="Exception">One can't: what the store throws.</exception>
    public Task Probe() => Task.WhenAll(lanes.Where(l => l.StoreFailing).Select(l => l.Probe()));

    /// <summary>A session's writer was woken, and has not begun to write yet.</summary>
    public void WriterWoken()
    {
        foreach (var lane in lanes) lane.WriterWoken();
    }

    /// <summary>It has begun.</summary>
    public void WriterBegun()
    {
        foreach (var lane in lanes) lane.WriterBegun();
    }

    /// <summary>How many users a command about many changes in a step: a few milliseconds.</summary>
    public const int StepSize = 10;

    /// <summary>True for what a store throws that can't be read or written now.</summary>
    public static bool IsStoreFailure(Exception error) => StoreFailures.Is(error);

    /// <summary>After how many seconds a refused send may try again.</summary>
    public const int RetryAfterSeconds = 1;

    /// <summary>What is answered when more is sent than can be stored.</summary>
    public static Problem Overloaded() =>
        new(503, "overloaded", "Overloaded",
        "More is sent than can be stored in time.",
        "Try again after the seconds named in Retry-After.")
        { RetryAfterSeconds = RetryAfterSeconds };

    /// <summary>The answer when a commit failed.</summary>
    /// <param name="why">What was thrown; null: nothing was tried.</param>
    public static Problem StoreFailed(Exception? why = null) => why is InDoubtException
        ? new(503, "outcome-unknown", "Outcome unknown",
        "The store became unreachable while this request was stored: it may be stored or not.",
        "Try again; with an Idempotency-Key that is safe, without one something may be stored twice.")
        { RetryAfterSeconds = 2 }
        : new(503, "store-unavailable", "Store unavailable", "The store cannot be written now; nothing of this request was stored.",
        "Try again; with an Idempotency-Key that is safe. If it persists, the service log has the reason (disk full, " +
        "read-only, locked).")
        { RetryAfterSeconds = 2 };

    /// <summary>Carries out what is waiting, then stops.</summary>
    public void Dispose()
    {
        foreach (var lane in lanes) lane.Dispose();
    }
}
