using System.Diagnostics;

namespace Rovett.Service.Limits;

/// <summary>Lets only a few connections begin at a time, in the order they came, so that other requests find a processor. After a
/// restart or an outage thousands come back at once; without this, each send would queue behind all of them.</summary>
public sealed class ConnectionTurns : IDisposable
{
    const int ForEachProcessor = 2, Fewest = 4;
    // A turn that takes longer is waiting for the network and needs no processor, so the next may begin.
    static readonly TimeSpan Longest = TimeSpan.FromMilliseconds(5);
    // A flood of connections must not keep others out.
    static readonly TimeSpan LongestWait = TimeSpan.FromSeconds(3);

    static readonly int Most = Math.Max(Fewest, ForEachProcessor * Environment.ProcessorCount);

    readonly Lock gate = new();
    readonly LinkedList<Turn> taken = []; // oldest first
    readonly Queue<Turn> waiting = new();
    readonly Timer timer;
    bool isTicking;
    volatile bool isBusy;

    /// <summary>Makes one in which nobody waits.</summary>
    public ConnectionTurns() => timer = new Timer(_ => Look());

    /// <summary>A turn to begin. It ends when the session is open, or when the request asks for something else.</summary>
    public sealed class Turn : IDisposable
    {
        readonly ConnectionTurns turns;
        internal readonly FairRoom.Place? Room;
        internal LinkedListNode<Turn>? Place;
        internal TaskCompletionSource? Waits;
        internal long Since;

        internal Turn(ConnectionTurns turns, FairRoom.Place? room) => (this.turns, Room) = (turns, room);

        /// <summary>Ends it; ending it again does nothing.</summary>
        public void Dispose() => turns.End(this);
    }

    /// <summary>Waits for a turn.</summary>
    /// <param name="room">The connection's place among all connections.</param>
    public async ValueTask<Turn> Begin(FairRoom.Place? room = null)
    {
        var turn = new Turn(this, room);
        if (Enter(turn) is { } begins) await begins;
        return turn;
    }

    /// <summary>A request has come. Ends its connection's turn, unless it asks for a session: opening one takes most work.</summary>
    public void Asked(HttpContext context)
    {
        if (isBusy && context.Request.Path.Value?.EndsWith("/v1/live", StringComparison.Ordinal) != true) End(context);
    }

    /// <summary>Ends the turn of a request's connection.</summary>
    public static void End(HttpContext context) => context.Features.Get<Turn>()?.Dispose();

    Task? Enter(Turn turn)
    {
        lock (gate)
        {
            EndLate();
            if (waiting.Count == 0 && taken.Count < Most)
            {
                Start(turn);
                return null;
            }
            turn.Since = Stopwatch.GetTimestamp();
            turn.Waits = new TaskCompletionSource(TaskCreationOptions.RunContinuationsAsynchronously);
            waiting.Enqueue(turn);
            isBusy = true;
            if (!isTicking) timer.Change(Longest, Longest);
            isTicking = true;
            return turn.Waits.Task;
        }
    }

    void End(Turn turn)
    {
        lock (gate)
        {
            if (turn.Place is not { } place) return;
            turn.Place = null;
            taken.Remove(place);
            StartNext();
        }
    }

    void Look()
    {
        lock (gate)
        {
            EndLate();
            if (isBusy) return;
            isTicking = false;
            timer.Change(Timeout.Infinite, Timeout.Infinite);
        }
    }

    void EndLate()
    {
        while (taken.First is { Value: var oldest } && Stopwatch.GetElapsedTime(oldest.Since) > Longest)
        {
            oldest.Place = null;
            taken.RemoveFirst();
        }
        StartNext();
    }

    void StartNext()
    {
        while (waiting.TryPeek(out var next) && (taken.Count < Most || Stopwatch.GetElapsedTime(next.Since) > LongestWait))
        {
            Start(waiting.Dequeue());
        }
        isBusy = waiting.Count > 0;
    }

    void Start(Turn turn)
    {
        turn.Since = Stopwatch.GetTimestamp();
        turn.Place = taken.AddLast(turn);
        turn.Waits?.SetResult();
        turn.Waits = null;
    }

    /// <summary>Stops the timer.</summary>
    public void Dispose() => timer.Dispose();
}
