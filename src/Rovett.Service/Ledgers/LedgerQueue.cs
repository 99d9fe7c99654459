using Rovett.Core.Ledgers;
using Rovett.Core.Ledgers.Commands.Marking;
using Rovett.Core.Ledgers.Commands.Sending;

namespace Rovett.Service.Ledgers;

/// <summary>What waits for the ledger. Everything goes in the order it was asked for, but for one thing: sends may overtake
/// acknowledgements, which only tell of what is past, for a while. They come in bursts, from everybody at once, and so are
/// written while writers are busy and not while they wait for the next send.</summary>
sealed class LedgerQueue
{
    const int MaxWaiting = 100_000, MaxBatch = 512, AckSlice = 128;
    static readonly TimeSpan LongestOvertaken = TimeSpan.FromMilliseconds(20), Lately = TimeSpan.FromMilliseconds(100);

    readonly object gate = new();
    readonly Queue<LedgerCommand> commands = new(), acks = new();
    int sends, wakeAtSends = 1; // sends among the commands; how many of them end the ledger's sleep
    bool underWay, acksWereLast, closed;
    long lastSends;
    readonly TimeProvider clock;

    /// <summary>Makes an empty one.</summary>
    /// <param name="clock">Tells how long something has waited.</param>
    public LedgerQueue(TimeProvider clock) => (this.clock, Gathering) = (clock, new SendGathering(clock, Wake));

    /// <summary>How many sends wait.</summary>
    public int Sends => Volatile.Read(ref sends);

    /// <summary>True when nothing waits, and what was taken is done.</summary>
    public bool IsIdle { get { lock (gate) return !underWay && commands.Count + acks.Count == 0; } }

    /// <summary>What is known of the last commits and of who writes, by which sends are gathered.</summary>
    public SendGathering Gathering { get; }

    /// <summary>Adds one.</summary>
    /// <returns>False when too many wait, or nothing is accepted now.</returns>
    public bool Add(LedgerCommand command)
    {
        lock (gate)
        {
            if (closed || (commands.Count + acks.Count >= MaxWaiting && !command.IsAlwaysTaken)) return false;
            command.AskedAt = clock.GetTimestamp();
            (command is ReceivedCommand ? acks : commands).Enqueue(command);
            if (command is SendCommand && ++sends < wakeAtSends) return true;
            Monitor.Pulse(gate);
        }
        return true;
    }

    /// <summary>Takes what is carried out next, in one commit, when what was taken before is done; waits until there is
    /// something.</summary>
    /// <param name="batch">Where it is put.</param>
    /// <returns>False once nothing more comes.</returns>
    public bool Take(List<LedgerCommand> batch)
    {
        lock (gate)
        {
            for (underWay = false; !underWay;)
            {
                int wait = Timeout.Infinite;
                bool acksAreDue = acks.Count > 0 && !acksWereLast && IsOlder(acks.Peek().AskedAt, LongestOvertaken);
                if (commands.Count > 0 && !acksAreDue)
                {
                    // Only sends wait for more of their kind.
                    wait = closed || sends < commands.Count ? 0 : Gathering.WaitFor(sends, clock.GetElapsedTime(commands.Peek().AskedAt));
                    if (wait == 0)
                    {
                        TakeCommands(batch);
                        continue;
                    }
                }
                if (acks.Count > 0)
                {
                    int most = acksAreDue || IsOlder(lastSends, Lately) ? MaxBatch : AckSlice;
                    while (acks.Count > 0 && batch.Count < most) batch.Add(acks.Dequeue());
                    underWay = acksWereLast = true;
                    continue;
                }
                if (closed && commands.Count == 0) return false;
                wakeAtSends = commands.Count == 0 ? 1 : Gathering.Expected;
                Monitor.Wait(gate, wait);
            }
        }
        return true;
    }

    void TakeCommands(List<LedgerCommand> batch)
    {
        (underWay, acksWereLast) = (true, false);
        while (batch.Count < MaxBatch && commands.TryPeek(out var next))
        {
            if (next is SendCommand)
            {
                sends--;
                lastSends = clock.GetTimestamp();
            }
            else if (acks.TryPeek(out var earlier) && earlier.AskedAt <= next.AskedAt)
            {
                batch.Add(acks.Dequeue());
                continue;
            }
            batch.Add(commands.Dequeue());
        }
    }

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
