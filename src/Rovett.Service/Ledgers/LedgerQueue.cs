using Rovett.Core.Ledgers;
using Rovett.Core.Ledgers.Commands.Marking;
using Rovett.Core.Ledgers.Commands.Sending;

namespace Rovett.Service.Ledgers;

/// <summary>What waits for the ledger. What is asked about a space goes in the order it was asked for, but for one thing: sends may
/// overtake acknowledgements, which only tell of what is past, for a while. They come in bursts, from everybody at once, and so are
/// written while writers are busy and not while they wait for the next send. While several spaces ask, each has its turn, a few at a
/// time: much that is asked of one does not hold up another. What takes long by itself then has a commit for itself, and leaves the
/// ledger to the others for as long as it took. Between the steps of a command nothing else of its space is carried out.</summary>
sealed class LedgerQueue
{
    const int MaxWaiting = 100_000, MaxBatch = 512, AckSlice = 128, ShareInTurn = 16,
        LongWork = 8, // more takes long
        MostWork = 75; // of commands that take long: a commit of about 5 ms
    static readonly TimeSpan LongestOvertaken = TimeSpan.FromMilliseconds(20), Lately = TimeSpan.FromMilliseconds(100),
        Crowded = TimeSpan.FromMilliseconds(250);

    /// <summary>What waits of one space.</summary>
    sealed class Waiting
    {
        public readonly Queue<LedgerCommand> Commands = new(), Acks = new();

        /// <summary>What is carried out in steps: until it is finished, nothing else of the space is.</summary>
        public LedgerCommand? Unfinished;

        /// <summary>A step of it is under way.</summary>
        public bool IsInStep;

        /// <summary>Nothing can be taken now.</summary>
        public bool IsEmpty => IsInStep || (Unfinished is null && Commands.Count + Acks.Count == 0);

        /// <summary>Not before this timestamp while others ask.</summary>
        public long RestsUntil;
    }

    readonly object gate = new();
    readonly Dictionary<string, Waiting> spaces = [];
    readonly Queue<Waiting> turns = new(); // the spaces of which something waits
    int waiting, sends, wakeAtSends = 1; // in all; sends among them; how many of them end the ledger's sleep
    bool underWay, acksWereLast, closed;
    long lastSends;
    string lastSpace = "";
    Waiting? next, working; // whose turn it is, as its work would have held up others; whose long work is under way
    long workingSince;
    long? crowdedSince; // two spaces asked, one after the other
    readonly TimeProvider clock;

    /// <summary>Makes an empty one.</summary>
    /// <param name="clock">Tells how long something has waited.</param>
    public LedgerQueue(TimeProvider clock) => (this.clock, Gathering) = (clock, new SendGathering(clock, Wake));

    /// <summary>How many sends wait.</summary>
    public int Sends => Volatile.Read(ref sends);

    /// <summary>How much waits.</summary>
    public int Waits => Volatile.Read(ref waiting);

    /// <summary>True when nothing waits, and what was taken is done.</summary>
    public bool IsIdle { get { lock (gate) return !underWay && waiting == 0; } }

    /// <summary>What is known of the last commits and of who writes, by which sends are gathered.</summary>
    public SendGathering Gathering { get; }

    /// <summary>Adds one.</summary>
    /// <returns>False when too many wait, or nothing is accepted now.</returns>
    public bool Add(LedgerCommand command)
    {
        lock (gate)
        {
            if (closed || (waiting >= MaxWaiting && !command.IsAlwaysTaken)) return false;
            command.AskedAt = clock.GetTimestamp();
            if (command.Space.Length > 0 && command.Space != lastSpace)
            {
                if (lastSpace.Length > 0) crowdedSince = command.AskedAt;
                lastSpace = command.Space;
            }
            if (!spaces.TryGetValue(command.Space, out var of)) spaces[command.Space] = of = new Waiting();
            if (of.IsEmpty && !of.IsInStep) turns.Enqueue(of);
            (command is ReceivedCommand ? of.Acks : of.Commands).Enqueue(command);
            waiting++;
            if (command is SendCommand && ++sends < wakeAtSends) return true;
            Monitor.Pulse(gate);
        }
        return true;
    }

    /// <summary>A step of a command was carried out.</summary>
    /// <param name="command">The command, which was taken.</param>
    public void SteppedOn(LedgerCommand command)
    {
        lock (gate)
        {
            var of = spaces[command.Space];
            of.IsInStep = false;
            if (command.IsUnfinished)
            {
                of.Unfinished = command;
                command.AskedAt = clock.GetTimestamp();
                waiting++;
            }
            if (!of.IsEmpty) turns.Enqueue(of);
        }
    }

    /// <summary>Takes what is carried out next, in one commit, when what was taken before is done; waits until there is
    /// something.</summary>
    /// <param name="batch">Where it is put.</param>
    /// <returns>False once nothing more comes.</returns>
    public bool Take(List<LedgerCommand> batch)
    {
        lock (gate)
        {
            if (working is not null)
            {
                long now = clock.GetTimestamp();
                working.RestsUntil = now + (now - workingSince);
                working = null;
            }
            for (underWay = false; !underWay;)
            {
                int wait = Timeout.Infinite;
                bool crowded = turns.Count > 1 || (turns.Count == 1 && crowdedSince is { } since && !IsOlder(since, Crowded));
                if (crowded) wait = TakeInTurn(batch);
                else if (turns.TryPeek(out var one)) wait = TakeOf(one, batch);
                else if (closed) return false;
                if (underWay) continue;
                wakeAtSends = waiting == 0 || crowded ? 1 : Gathering.Expected;
                Monitor.Wait(gate, wait);
            }
        }
        return true;
    }

    /// <summary>Takes as much as goes into a commit of the only space of which something waits.</summary>
    /// <returns>For how long it may wait for more instead; milliseconds.</returns>
    int TakeOf(Waiting one, List<LedgerCommand> batch)
    {
        int wait = Timeout.Infinite;
        bool acksAreDue = AreAcksOverdue(one) && !acksWereLast;
        if ((one.Unfinished is not null || one.Commands.Count > 0) && !acksAreDue)
        {
            // Only sends wait for more of their kind.
            wait = closed || one.Unfinished is not null || sends < one.Commands.Count ? 0
                : Gathering.WaitFor(sends, clock.GetElapsedTime(one.Commands.Peek().AskedAt));
            if (wait == 0)
            {
                (underWay, acksWereLast) = (true, false);
                for (int work = 0; batch.Count < MaxBatch && work < MostWork && !one.IsInStep
                    && (one.Unfinished is not null || one.Commands.Count > 0);)
                {
                    var taken = Next(one);
                    batch.Add(taken);
                    if (taken.Work > 1) work += taken.Work;
                }
            }
        }
        if (!underWay && one.Acks.Count > 0)
        {
            int most = acksAreDue || IsOlder(lastSends, Lately) ? MaxBatch : AckSlice;
            while (one.Acks.Count > 0 && batch.Count < most) batch.Add(Next(one, ack: true));
            underWay = acksWereLast = true;
        }
        if (one.IsEmpty) turns.Dequeue();
        return wait;
    }

    /// <summary>Takes a few of each space, or what takes long of one.</summary>
    /// <returns>For how long to wait where all must; milliseconds.</returns>
    int TakeInTurn(List<LedgerCommand> batch)
    {
        long now = clock.GetTimestamp(), wake = long.MaxValue;
        // One of which something waits is among the turns; it may have had its turn without others meanwhile.
        if (next is { IsEmpty: false })
        {
            while (turns.Peek() != next) turns.Enqueue(turns.Dequeue());
        }
        next = null;
        for (int left = turns.Count; left > 0 && batch.Count < MaxBatch; left--)
        {
            var one = turns.Dequeue();
            if (one.RestsUntil > now && !closed)
            {
                wake = Math.Min(wake, one.RestsUntil);
                turns.Enqueue(one);
                continue;
            }
            int share = ShareInTurn;
            while (share > 0 && !one.IsEmpty)
            {
                bool acksAreDue = AreAcksOverdue(one);
                int work = acksAreDue ? 1 : one.Unfinished?.Work ?? (one.Commands.TryPeek(out var command) ? command.Work : 1);
                if (work > LongWork && batch.Count > 0)
                {
                    next ??= one;
                    break;
                }
                var taken = Next(one, acksAreDue || (one.Unfinished is null && one.Commands.Count == 0));
                batch.Add(taken);
                share -= taken.Work;
                if (taken.Work <= LongWork) continue;
                (working, workingSince) = (one, now);
                break;
            }
            if (!one.IsEmpty) turns.Enqueue(one);
            if (working is not null) break;
        }
        if (batch.Count == 0) return (int)Math.Max(1, clock.GetElapsedTime(now, wake).TotalMilliseconds);
        (underWay, acksWereLast) = (true, false);
        return 0;
    }

    LedgerCommand Next(Waiting of, bool ack = false)
    {
        waiting--;
        if (of.Unfinished is { } unfinished)
        {
            (of.Unfinished, of.IsInStep) = (null, true);
            return unfinished;
        }
        if (!ack && of.Commands.Peek() is not SendCommand && of.Acks.TryPeek(out var earlier)
            && earlier.AskedAt <= of.Commands.Peek().AskedAt)
        {
            ack = true;
        }
        if (ack) return of.Acks.Dequeue();
        if (of.Commands.Peek() is SendCommand)
        {
            sends--;
            lastSends = clock.GetTimestamp();
        }
        of.IsInStep = of.Commands.Peek().StepSize > 0;
        return of.Commands.Dequeue();
    }

    bool AreAcksOverdue(Waiting of) =>
        of.Unfinished is null && of.Acks.Count > 0 && IsOlder(of.Acks.Peek().AskedAt, LongestOvertaken);

    bool IsOlder(long timestamp, TimeSpan age) => clock.GetElapsedTime(timestamp) > age;

    void Wake()
    {
        lock (gate) Monitor.Pulse(gate);
    }

    /// <summary>Takes no more; what waits is still given out.</summary>
    public void Close()
    {
        lock (gate)
        {
            closed = true;
            Monitor.Pulse(gate);
        }
    }
}
