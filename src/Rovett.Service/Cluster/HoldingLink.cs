using System.Collections.Concurrent;
using Grpc.Core;
using Rovett.Core.Delivery;
using Rovett.Core.Links;
using Rovett.Core.Store;
using Rovett.Service.Diagnostics;
using Rovett.Service.Ledgers;
using Frames = Rovett.Core.Links.Frames;

namespace Rovett.Service.Cluster;

/// <summary>The end of a link at the node that holds sessions of spaces that the other end serves. When it breaks they all end, and come
/// back by any node.</summary>
sealed class HoldingLink : IDisposable
{
    static readonly TimeSpan PingEvery = TimeSpan.FromMilliseconds(500), ReportsEvery = TimeSpan.FromMilliseconds(100),
        Patience = TimeSpan.FromSeconds(5);
    const int ReportsToAll = 10, MostUnwritten = 100_000;

    readonly AsyncDuplexStreamingCall<Frames.FromHolder, Frames.ToHolder> call;
    readonly BootClock clock;
    readonly FrameQueue<Frames.FromHolder> outgoing = new(static frame => frame.CalculateSize());
    readonly ConcurrentDictionary<ulong, TaskCompletionSource<Frames.Answer>> asked = new();
    readonly ConcurrentDictionary<LinkedSide, bool> sides = new();
    readonly ConcurrentDictionary<LinkedSide, bool> written = new();
    readonly ConcurrentQueue<HeldAck> acks = new();
    readonly ConcurrentQueue<(ulong Number, HeldAck Ack)> unwritten = new();
    ulong lastReport;
    readonly CancellationTokenSource stop = new();
    readonly Faults faults;
    readonly Action<HoldingLink> over;
    readonly int comeBackWithinMs;
    ulong lastAsk;
    int reports;
    uint lastSession;
    long holdsUntil;
    volatile bool isOver;

    /// <param name="call">The call, which was let in.</param>
    /// <param name="clock">Time that also passes while the machine sleeps.</param>
    /// <param name="recentBytes">How much of what was sent last is kept, in bytes.</param>
    /// <param name="comeBackWithinMs">Over what time devices come back when it breaks.</param>
    /// <param name="faults">Hears of bugs.</param>
    /// <param name="over">Called once it has broken.</param>
    public HoldingLink(AsyncDuplexStreamingCall<Frames.FromHolder, Frames.ToHolder> call, BootClock clock, long recentBytes,
        int comeBackWithinMs, Faults faults, Action<HoldingLink> over)
    {
        (this.call, this.clock, this.comeBackWithinMs, this.faults, this.over) = (call, clock, comeBackWithinMs, faults, over);
        Held = new HeldSessions(new RecentBySpace(recentBytes),
            (session, address) => Tell(new Frames.FromHolder { LeftOut = new Frames.LeftOut { Session = session, Address = address } }),
            (where, error) => faults.Bug(null, where, error));
        Running = Task.Run(Run);
    }

    /// <summary>The sessions.</summary>
    public HeldSessions Held { get; }

    /// <summary>Done once it is over and its sessions were told.</summary>
    public Task Running { get; }

    /// <summary>What the other end said until now may be acted on.</summary>
    public bool Holds => !isOver && clock.Elapsed.Ticks < Volatile.Read(ref holdsUntil);

    /// <summary>It has broken.</summary>
    public bool IsOver => isOver;

    async Task Run()
    {
        var writing = outgoing.WriteTo(call.RequestStream, stop.Token);
        using var pings = new Repeating("link pings", PingEvery, clock, faults, Ping);
        using var reporting = new Repeating("link reports", ReportsEvery, clock, faults, Report);
        try
        {
            await Ping();
            while (!writing.IsFaulted && await ServedLink.Next(call.ResponseStream, stop, Patience)) Take(call.ResponseStream.Current);
        }
        catch (Exception error)
        {
            faults.Bug(null, nameof(HoldingLink), error);
        }
        isOver = true;
        over(this);
        stop.Cancel();
        outgoing.Close();
        foreach (var side in sides.Keys) side.Ended(comeBackWithinMs);
        foreach (ulong id in asked.Keys)
        {
            if (asked.TryRemove(id, out var waits)) waits.TrySetException(Relay.OutcomeUnknown().ToException());
        }
        try
        {
            await writing;
        }
        catch (Exception error) when (ServedLink.IsGone(error))
        {
            // It is over.
        }
        call.Dispose();
    }

    void Take(Frames.ToHolder frame)
    {
        switch (frame.WhatCase)
        {
            case Frames.ToHolder.WhatOneofCase.Commit:
                Held.Apply(frame.Commit);
                break;
            case Frames.ToHolder.WhatOneofCase.Answer:
                if (asked.TryRemove(frame.Answer.Id, out var waits)) waits.TrySetResult(frame.Answer);
                break;
            case Frames.ToHolder.WhatOneofCase.Pong:
                long until = frame.Pong.Ping + frame.Pong.Holds;
                if (until > holdsUntil) Volatile.Write(ref holdsUntil, until);
                break;
            case Frames.ToHolder.WhatOneofCase.SaySeen:
                Tell(new Frames.FromHolder { Seen = frame.SaySeen }); // everything before it was applied
                break;
            case Frames.ToHolder.WhatOneofCase.Written:
                while (unwritten.TryPeek(out var first) && first.Number <= frame.Written && unwritten.TryDequeue(out first))
                    first.Ack.Side.IsWritten(first.Ack);
                break;
            default:
                throw new InvalidDataException("The other node says something that this version does not know.");
        }
    }

    Task Ping()
    {
        Tell(new Frames.FromHolder { Ping = clock.Elapsed.Ticks });
        return Task.CompletedTask;
    }

    /// <summary>Tells what connections have taken, and now and then how sessions are.</summary>
    Task Report()
    {
        if (++reports % ReportsToAll == 0)
        {
            foreach (var side in sides.Keys)
            {
                if (side.IsOtherwise) written.TryAdd(side, true);
            }
        }
        var together = new Frames.Reports();
        foreach (var side in written.Keys)
        {
            written.TryRemove(side, out _);
            together.Written.Add(side.TakeWritten());
        }
        while (acks.TryDequeue(out var held))
        {
            if (together.Number == 0) together.Number = ++lastReport;
            together.Acked.Add(held.Side.FrameOf(held));
            unwritten.Enqueue((together.Number, held));
        }
        while (unwritten.Count > MostUnwritten) unwritten.TryDequeue(out _); // nodes of earlier versions never confirm
        if (together.Written.Count + together.Acked.Count > 0) Tell(new Frames.FromHolder { Reports = together });
        return Task.CompletedTask;
    }

    /// <summary>A session's connection took something.</summary>
    public void HasWritten(LinkedSide side) => written.TryAdd(side, true);

    /// <summary>A device acknowledged something.</summary>
    public void HasAcknowledged(HeldAck acked) => acks.Enqueue(acked);

    /// <summary>Says something that is not answered.</summary>
    public void Tell(Frames.FromHolder frame)
    {
        if (!isOver) outgoing.Add(frame);
    }

    /// <summary>A session begins.</summary>
    /// <returns>Its number; from now on it hears what is for it.</returns>
    public uint Enter(LinkedSide side, Session session)
    {
        uint number = Interlocked.Increment(ref lastSession);
        Held.Add(number, session);
        sides[side] = true;
        if (isOver) side.Ended(comeBackWithinMs);
        return number;
    }

    /// <summary>A session is over.</summary>
    public void Leave(LinkedSide side, uint number)
    {
        sides.TryRemove(side, out _);
        written.TryRemove(side, out _);
        Held.Remove(number);
    }

    /// <summary>Asks the node that serves.</summary>
    /// <exception cref="ProblemException">It refuses, or the link has broken.</exception>
    public async Task<Frames.Answer> Ask(Frames.Ask ask)
    {
        ask.Id = Interlocked.Increment(ref lastAsk);
        var waits = new TaskCompletionSource<Frames.Answer>(TaskCreationOptions.RunContinuationsAsynchronously);
        asked[ask.Id] = waits;
        if (!outgoing.Add(new Frames.FromHolder { Ask = ask }) || isOver)
        {
            asked.TryRemove(ask.Id, out _);
            throw Relay.OutcomeUnknown().ToException();
        }
        var answer = await waits.Task;
        return answer.WhatCase switch
        {
            Frames.Answer.WhatOneofCase.Problem => throw LinkCodec.Read(answer.Problem).ToException(),
            Frames.Answer.WhatOneofCase.StoreFailed =>
                throw LedgerPump.StoreFailed(answer.StoreFailed ? new InDoubtException(new IOException("At another node.")) : null)
                    .ToException(),
            Frames.Answer.WhatOneofCase.Bug =>
                throw new InvalidOperationException("The node that serves the space failed; its log has why."),
            _ => answer,
        };
    }

    public void Dispose()
    {
        stop.Cancel();
        Running.Wait(TimeSpan.FromSeconds(2));
    }
}
