using System.Diagnostics;
using Rovett.Core.Ledgers;
using Rovett.Core.Ledgers.Commands.Life;
using Rovett.Core.Ledgers.Commands.Sending;
using Rovett.Core.Ledgers.Commands.Sessions;
using Rovett.Core.Ledgers.Commands.Spaces;
using Rovett.Core.Nodes;
using Rovett.Service.Diagnostics;
using Rovett.Service.Meters;
using Rovett.Service.Telemetry;

namespace Rovett.Service.Ledgers;

/// <summary>Has a ledger carry out one thing after the other. Whatever has been asked for while a commit was under way goes into
/// the next one together, on a thread of its own; what is brief and finds nothing before it is carried out where it is asked for.</summary>
sealed class Lane : IDisposable
{
    const int FewWaiting = 64;
    static readonly TimeSpan Brief = TimeSpan.FromMilliseconds(0.25), WaitForBrief = TimeSpan.FromMilliseconds(1);

    readonly LedgerQueue queue = new(TimeProvider.System);
    readonly Ledger ledger;
    readonly NodeThread node;
    readonly Faults faults;
    readonly LaneMeters meters;
    readonly Thread thread;
    readonly Lock turn = new(); // held while the ledger carries something out
    string failedSpace = ""; // of the last batch that failed; empty: it was about no space
    bool stopped; // nothing is carried out but what waits
    readonly TimeSpan maxWait;
    long begun, waited; // timestamps: when the batch under way began, how long the first of the last sends had waited
    volatile bool isBrief; // the turn is held by a thread that carries out its own command, which should be quick
    bool wasBrief; // the last such command took little time

    /// <summary>Starts the thread.</summary>
    /// <param name="open">Makes the ledger.</param>
    /// <param name="maxWait">A send that would wait longer than this for its turn is refused.</param>
    /// <param name="meters">Count what is carried out.</param>
    /// <param name="faults">Hears of bugs.</param>
    public Lane(Func<INodeLink, Ledger> open, TimeSpan maxWait, LaneMeters meters, Faults faults)
    {
        this.meters = meters;
        node = new NodeThread(faults);
        ledger = open(node);
        this.maxWait = maxWait;
        this.faults = faults;
        thread = new Thread(Run) { Name = "ledger", IsBackground = true };
        thread.Start();
    }

    /// <summary>Asks the ledger; the answer comes when it is on disk.</summary>
    /// <exception cref="ProblemException">Refused by the command, or 503: the queue is full or the store can't be written.</exception>
    public Task<T> Ask<T>(LedgerCommand<T> command)
    {
        if (Traces.Here is { } trace) command.Trace = trace;
        if (command is SendCommand && IsOverloaded()) throw LedgerPump.Overloaded().ToException();
        if ((command is (AttachCommand or DetachCommand) && CarryOutNow(command)) || queue.Add(command)) return command.Task;
        throw LedgerPump.Overloaded().ToException();
    }

    /// <returns>False when something else comes first.</returns>
    bool CarryOutNow(LedgerCommand command)
    {
        if (!queue.IsIdle || turn.IsHeldByCurrentThread) return false;
        // While many connect, waiting for another session takes less time than changing threads twice.
        if (!turn.TryEnter() && !(isBrief && turn.TryEnter(WaitForBrief))) return false;
        try
        {
            if (stopped || !queue.IsIdle) return false;
            isBrief = wasBrief;
            long began = Stopwatch.GetTimestamp();
            CarryOut([command]);
            wasBrief = Stopwatch.GetElapsedTime(began) < Brief;
            return true;
        }
        finally
        {
            isBrief = false;
            turn.Exit();
        }
    }

    /// <summary>Keeps everything else from being carried out until it is disposed.</summary>
    public Turn Hold()
    {
        turn.Enter();
        return new Turn(this);
    }

    /// <summary>A lane that is held.</summary>
    public readonly struct Turn(Lane lane) : IDisposable
    {
        /// <summary>Carries a command out, before all that waits.</summary>
        public void CarryOut(LedgerCommand command) => lane.CarryOut([command]);

        /// <inheritdoc/>
        public void Dispose() => lane.turn.Exit();
    }

    /// <summary>How long the batch under way has taken so far.</summary>
    public TimeSpan UnderWay => Volatile.Read(ref begun) is var since and not 0 ? Stopwatch.GetElapsedTime(since) : TimeSpan.Zero;

    /// <summary>How many commands wait.</summary>
    public int Waits => queue.Waits;

    /// <summary>The last attempt to write to the store failed.</summary>
    public bool StoreFailing => ledger.StoreFailing;

    /// <summary>Finds out whether the store takes writes again.</summary>
    public Task Probe() =>
        Volatile.Read(ref failedSpace) is { Length: > 0 } space ? Ask(new ProbeCommand(space)) : Ask(new SaveClockCommand(isProbe: true));

    /// <summary>More is sent than can be done: many sends wait, and for long. Refusing some then keeps the others quick.</summary>
    bool IsOverloaded() => queue.Sends > FewWaiting
        && (Stopwatch.GetElapsedTime(0, Volatile.Read(ref waited)) > maxWait
        || (Volatile.Read(ref begun) is var since and not 0 && Stopwatch.GetElapsedTime(since) > maxWait));

    /// <summary>A session's writer was woken, and has not begun to write yet.</summary>
    public void WriterWoken() => queue.Gathering.WriterWoken();

    /// <summary>It has begun.</summary>
    public void WriterBegun() => queue.Gathering.WriterBegun();

    void Run()
    {
        for (var batch = new List<LedgerCommand>(); queue.Take(batch); batch.Clear())
        {
            lock (turn)
            {
                int sends = batch.Count(static c => c is SendCommand);
                Volatile.Write(ref begun, Stopwatch.GetTimestamp());
                if (sends > 0 || queue.Sends == 0) Volatile.Write(ref waited, sends > 0 ? begun - batch[0].AskedAt : 0);
                long offered = ledger.Offered;
                bool isDone = CarryOut(batch);
                foreach (var command in batch)
                {
                    if (command.StepSize > 0) queue.SteppedOn(command);
                }
                if (isDone) queue.Gathering.Committed(sends, ledger.Offered - offered);
                Volatile.Write(ref begun, 0);
            }
        }
    }

    bool CarryOut(IReadOnlyList<LedgerCommand> batch)
    {
        try
        {
            long began = Stopwatch.GetTimestamp();
            ledger.Process(batch);
            meters.CarriedOut(batch, began);
            Traces.CarriedOut(batch, began);
            if (ledger.StoreFailing) Volatile.Write(ref failedSpace, batch[0].Space);
            return true;
        }
        catch (Exception error)
        {
            faults.Bug(null, nameof(Ledger), error);
            foreach (var command in batch) command.Abandon(error);
            return false;
        }
    }

    /// <summary>Carries out what is waiting, then stops.</summary>
    public void Dispose()
    {
        lock (turn) stopped = true;
        queue.Close();
        thread.Join(TimeSpan.FromSeconds(10));
        node.Dispose();
    }
}
