using System.Diagnostics;
using Rovett.Service.Ledgers;

namespace Rovett.Service.Limits;

/// <summary>How many sends are carried out at a time. A burst waits its turn; when more comes than can be done for longer than a
/// moment, nobody waits: what finds no place is refused at once, so that what was let in stays as quick as it is when
/// just so much is sent.</summary>
/// <param name="most">How many.</param>
/// <param name="patience">The longest a send of a burst waits for a place.</param>
public sealed class SendGate(int most, TimeSpan patience)
{
    const int PartOfOneSpace = 10, WaitingForEach = 3;
    static readonly TimeSpan Burst = TimeSpan.FromMilliseconds(100), Calm = TimeSpan.FromSeconds(1);
    static readonly object Overload = new();

    readonly SpaceShares shares = new(ShareOf(most), TimeProvider.System);
    int most = most;

    static int ShareOf(int most) => Math.Max(4, most / PartOfOneSpace);

    /// <summary>How many sends are carried out at a time.</summary>
    public int Most
    {
        get => Volatile.Read(ref most);
        set
        {
            Volatile.Write(ref most, value);
            shares.Share = ShareOf(value);
        }
    }

    readonly Lock gate = new();
    readonly LinkedList<TaskCompletionSource> waiting = [];
    readonly EarlyReturns early = new();
    int inside;
    long waitingSince, strictUntil;

    /// <summary>How many sends are carried out now.</summary>
    public int Inside => Volatile.Read(ref inside);

    /// <summary>A place that was taken; to be disposed when the send is done.</summary>
    public readonly struct Place(SendGate gate, string space, int places) : IDisposable
    {
        /// <inheritdoc/>
        public void Dispose()
        {
            gate.Leave();
            gate.shares.Leave(space, places);
        }
    }

    /// <summary>Takes a place.</summary>
    /// <param name="context">The request.</param>
    /// <param name="space">The space that is sent to.</param>
    /// <param name="items">How many notifications or events are sent.</param>
    /// <exception cref="ProblemException">503: more is sent than can be done. Who was told so on this connection, and is back before the
    /// time that was named, hears it only after it, and not all at the same moment: so that those who don't wait don't
    /// take what the others need.</exception>
    public async ValueTask<Place> Enter(HttpContext context, string space, int items = 1)
    {
        int places = shares.PlacesOf(items);
        if (await shares.Enter(space, places, context.RequestAborted))
        {
            if (await TakePlace(context.RequestAborted)) return new Place(this, space, places);
            shares.Leave(space, places);
        }
        await early.Hold(context, Overload);
        EarlyReturns.Tell(context, Overload, TimeSpan.FromSeconds(LedgerPump.RetryAfterSeconds));
        throw LedgerPump.Overloaded().ToException();
    }

    async ValueTask<bool> TakePlace(CancellationToken cancel)
    {
        LinkedListNode<TaskCompletionSource> me;
        lock (gate)
        {
            if (inside < most && waiting.Count == 0)
            {
                inside++;
                return true;
            }
            long now = Stopwatch.GetTimestamp();
            if (waiting.Count == 0) waitingSince = now;
            if (now < strictUntil || waiting.Count >= WaitingForEach * most || Stopwatch.GetElapsedTime(waitingSince, now) > Burst)
            {
                strictUntil = now + (Calm.Ticks * Stopwatch.Frequency / TimeSpan.TicksPerSecond);
                return false;
            }
            me = waiting.AddLast(new TaskCompletionSource(TaskCreationOptions.RunContinuationsAsynchronously));
        }
        try
        {
            await me.Value.Task.WaitAsync(patience, cancel);
            return true;
        }
        catch (Exception error) when (error is TimeoutException or OperationCanceledException)
        {
            lock (gate)
            {
                if (me.List is not null)
                {
                    waiting.Remove(me);
                    return false;
                }
            }
            return true; // it had its turn just then
        }
    }

    // Gives a place back: to the one that has waited longest.
    void Leave()
    {
        lock (gate)
        {
            if (waiting.First is { } next)
            {
                waiting.Remove(next);
                next.Value.SetResult();
            }
            else
            {
                inside--;
            }
        }
    }
}
