using System.Collections.Concurrent;
using Rovett.Core.Delivery;
using Rovett.Core.Ledgers.Commands.Marking;
using Rovett.Service.Diagnostics;

namespace Rovett.Service.Ledgers;

/// <summary>Gathers acknowledgements and writes them behind, at most 200 ms late, or half a second when very many come; and as
/// soon as the store takes them again when it does not: losing one costs a repeat, never a notification.</summary>
public sealed class AckBuffer : IDisposable
{
    static readonly TimeSpan Interval = TimeSpan.FromMilliseconds(100);

    // Devices that are sent much acknowledge often: what one of them says meanwhile is written with it.
    static readonly TimeSpan PerWritten = TimeSpan.FromMilliseconds(0.4), LongestInterval = TimeSpan.FromMilliseconds(450);

    const int MostWaiting = 100_000;

    readonly record struct Key(string Space, string User, string Device, bool Handled);

    readonly ConcurrentDictionary<Key, List<AckedRun>> waiting = new();
    readonly LedgerPump ledger;
    readonly TimeProvider clock;
    readonly ITimer timer;
    readonly Faults faults;
    readonly Lock gate = new();
    TaskCompletionSource? written; // completes when everything added so far is stored; null: nobody waits
    long notBefore;

    /// <summary>Starts the timer.</summary>
    public AckBuffer(LedgerPump ledger, TimeProvider clock, Faults faults)
    {
        this.ledger = ledger;
        this.faults = faults;
        this.clock = clock;
        timer = clock.CreateTimer(_ => FlushAndWait(), null, Interval, Timeout.InfiniteTimeSpan);
    }

    /// <summary>Takes what a device of a user acknowledged.</summary>
    public void Add(string space, string user, string device, bool handled, List<AckedRun> acked)
    {
        if (acked.Count > 0) Add(new Key(space, user, device, handled), acked);
    }

    /// <summary>Writes at once what a device acknowledged. When that fails it is written later, all the same.</summary>
    public async Task Store(string space, string user, string device, bool handled, List<AckedRun> acked)
    {
        try
        {
            await ledger.Ask(new ReceivedCommand(space, user, acked, handled, device));
        }
        catch (Exception failed)
        {
            Refused(failed, new Key(space, user, device, handled), acked);
            throw;
        }
    }

    /// <summary>Receives acknowledgements that can't be stored here because another process serves the space by now: the space, the user,
    /// the device, whether a handler ran, and the runs.</summary>
    public Action<string, string, string, bool, List<AckedRun>>? Elsewhere { get; set; }

    /// <summary>Completes when everything added so far is stored. Acknowledgements for a space that has moved away are not waited for: the
    /// nodes that hold its sessions pass them on to the new owner.</summary>
    public Task Written()
    {
        lock (gate) return (written ??= new TaskCompletionSource(TaskCreationOptions.RunContinuationsAsynchronously)).Task;
    }

    void Add(Key key, List<AckedRun> acked)
    {
        for (; ; )
        {
            var list = waiting.GetOrAdd(key, static _ => []);
            lock (list)
            {
                // A list that Flush has taken out is written already; take the next one.
                if (!waiting.TryGetValue(key, out var current) || current != list) continue;
                list.AddRange(acked);
                return;
            }
        }
    }

    void FlushAndWait()
    {
        var wait = Interval;
        try
        {
            wait += PerWritten * Flush();
        }
        catch (Exception error)
        {
            faults.Thrown(null, nameof(AckBuffer), error);
        }
        finally
        {
            timer.Change(wait < LongestInterval ? wait : LongestInterval, Timeout.InfiniteTimeSpan);
        }
    }

    /// <summary>Writes what waits.</summary>
    /// <returns>Of how many devices.</returns>
    int Flush()
    {
        int devices = 0;
        if (clock.GetTimestamp() < Volatile.Read(ref notBefore)) return devices;
        TaskCompletionSource? asked;
        lock (gate) (asked, written) = (written, null);
        var all = asked is null ? null : new List<Task<bool>>();
        foreach (var (key, list) in waiting)
        {
            List<AckedRun> acked;
            lock (list)
            {
                // Another flush may have taken this one, and a new one stand in its place by now.
                if (!waiting.TryRemove(KeyValuePair.Create(key, list))) continue;
                acked = Joined(list);
            }
            devices++;
            var one = Write(key, acked);
            all?.Add(one);
        }
        if (asked is not null) _ = Tell(asked, all!);
        return devices;
    }

    /// <returns>False: it was not written.</returns>
    async Task<bool> Write(Key key, List<AckedRun> acked)
    {
        try
        {
            await ledger.Ask(new ReceivedCommand(key.Space, key.User, acked, key.Handled, key.Device));
            return true;
        }
        catch (Exception error)
        {
            Refused(error, key, acked);
            return false;
        }
    }

    /// <summary>Completes a wait; if something could not be stored, after the next round.</summary>
    async Task Tell(TaskCompletionSource asked, List<Task<bool>> all)
    {
        if ((await Task.WhenAll(all)).All(static w => w)) asked.SetResult();
        else
        {
            await Written();
            asked.SetResult();
        }
    }

    /// <summary>The store takes nothing now: they wait on, for a time, and go with the next ones.</summary>
    void Refused(Exception why, Key key, List<AckedRun> acked)
    {
        if (why is ProblemException { Problem.Slug: "space-moved" })
        {
            Elsewhere?.Invoke(key.Space, key.User, key.Device, key.Handled, acked);
            return;
        }
        if (!LedgerPump.IsStoreFailure(why) && why is not ProblemException { Problem.Status: 503 }) return;
        Volatile.Write(ref notBefore, clock.GetTimestamp() + clock.TimestampFrequency);
        // Very many are let go, which costs a repeat when the device comes back.
        if (waiting.Count < MostWaiting) Add(key, acked);
    }

    static List<AckedRun> Joined(List<AckedRun> runs)
    {
        if (runs.Count == 1) return [.. runs];
        var joined = new List<AckedRun>(runs.Count);
        foreach (var run in runs.OrderBy(r => r.Log).ThenBy(r => r.Run.From))
        {
            if (joined.Count > 0 && joined[^1].Log == run.Log && joined[^1].Run.To + 1 == run.Run.From)
            {
                joined[^1] = run with { Run = run.Run with { From = joined[^1].Run.From } };
            }
            else joined.Add(run);
        }
        return joined;
    }

    /// <summary>Asks for what waits to be written now.</summary>
    public void FlushNow()
    {
        Volatile.Write(ref notBefore, 0);
        Flush();
    }

    /// <summary>Writes what waits, and stops.</summary>
    public void Dispose()
    {
        timer.Dispose();
        Volatile.Write(ref notBefore, 0);
        Flush();
    }
}
