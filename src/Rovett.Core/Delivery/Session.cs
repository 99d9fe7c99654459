using Rovett.Core.Visibility;
using Rovett.Core.Wire;

namespace Rovett.Core.Delivery;

/// <summary>One live connection of one device, as a state machine without I/O: messages, offers, pages and time go in;
/// bytes come out. Safe to call from several threads.</summary>
public sealed partial class Session : ISessionPort
{
    enum Mode { Behind, Live, Ended }

    const int FirstPage = 8, PageGrowth = 4, LongPage = 64, MostAtOnce = 32;

    readonly Lock gate = new();
    readonly OutQueue queue;
    SentLog sent;
    readonly Action wake;
    readonly SessionLimits limits;
    readonly Dispatches dispatches;
    readonly AckPatience patience;
    Repeats? repeats; // made when first needed
    Session? successor;

    Mode mode = Mode.Behind;
    SessionNeed need = SessionNeed.Page;
    ControlMessage? missedChannels;
    bool everCurrent, totalsStale, flushDue, waits;
    long drained, drainedBefore; // the position of the newest entry that was taken, and before it was taken last
    bool toBegin; // what was taken last is not being written yet
    int planVersion, answers, pageSize = FirstPage;
    TimeSpan lastWrite, clock;

    /// <summary>Creates a session that is behind and writes nothing before <see cref="Open"/>.</summary>
    /// <param name="transport">How its bytes are framed.</param>
    /// <param name="limits">Its limits.</param>
    /// <param name="now">Time since an arbitrary start; the same clock as <see cref="Tick"/>.</param>
    /// <param name="wake">Called without a lock when there is something to do; must be quick.</param>
    public Session(TransportKind transport, SessionLimits limits, TimeSpan now, Action wake)
    {
        Transport = transport;
        queue = new OutQueue(transport);
        this.limits = limits;
        this.wake = wake;
        lastWrite = clock = now;
        sent = new SentLog();
        dispatches = new Dispatches();
        patience = new AckPatience(limits, now);
    }

    /// <summary>Takes over the connection of a session that is being replaced.</summary>
    Session(Session before, Action wake, long through)
    {
        (Transport, limits, this.wake) = (before.Transport, before.limits, wake);
        queue = new OutQueue(Transport);
        queue.TakeAnswers(before.queue, before.toBegin);
        (sent, patience, repeats) = (before.sent, before.patience, before.repeats);
        dispatches = new Dispatches { Total = before.dispatches.Total };
        (lastWrite, clock, drained) = (before.lastWrite, before.clock, through);
        waits = true;
    }

    /// <summary>Replaces this session by one that takes over its connection, to be attached again from <see cref="StandsAt"/>. The new
    /// session knows what was sent and not acknowledged; it writes nothing before <see cref="Open"/>. This one ends silently.</summary>
    /// <param name="wake">As in the constructor.</param>
    /// <returns>The new session; null when this one has ended already.</returns>
    public Session? Successor(Action wake)
    {
        lock (gate)
        {
            if (mode == Mode.Ended) return null;
            // Queued entries come after those that were taken, except repeats, which are scheduled again. Messages other than answers
            // are dropped: attached again from before them, the session is told the same. What was taken and is not being written
            // yet is treated as if it was queued still.
            if (toBegin) drained = drainedBefore;
            long through = Through;
            foreach (var (run, from, to) in toBegin ? dispatches.UnderWay.Concat(queue.Runs()) : queue.Runs())
            {
                if (run.Place.Position + from > drained) through = Math.Min(through, run.Place.Position + from - 1);
                else Reschedule(run, from, to);
            }
            if (queue.BeforeMessages(toBegin) is { } before && before < through) through = Math.Max(drained, before);
            if (waits) through = drained; // it was never opened
            sent.DropAfter(through);
            successor = new Session(this, wake, through);
            if (toBegin) dispatches.UnderWay.Clear();
            (sent, repeats) = (new SentLog(), null);
            EndWith(null);
            return successor;
        }
    }

    void Reschedule(EntryRun run, int from, int to)
    {
        repeats ??= new Repeats();
        var place = run.Place;
        for (int i = from; i < to; i++)
            repeats.Add(new AgainItem(place.Position + i, place.Log, place.Ordinal + i, run.Wires[i].Attempt), clock);
    }

    /// <summary>The position up to which its device has everything; for a session that took over a connection, before it is
    /// opened.</summary>
    public long StandsAt { get { lock (gate) return drained; } }

    /// <summary>It took over a connection, and is not opened yet.</summary>
    public bool WaitsToOpen { get { lock (gate) return waits && mode != Mode.Ended; } }

    /// <inheritdoc/>
    public void Join(int plan, DispatchMark user, DispatchMark[] marks)
    {
        lock (gate)
        {
            planVersion = plan;
            dispatches.Join(user, marks);
        }
    }

    /// <summary>It has a user.</summary>
    public bool HasJoined { get { lock (gate) return dispatches.HaveMarks; } }

    /// <inheritdoc/>
    public void Joined() { }

    /// <summary>Called with what its connection took, before the next is taken; null: nobody asks.</summary>
    public Action<IReadOnlyList<(EntryRun Run, int From, int To)>>? Taken { get => dispatches.Taken; set => dispatches.Taken = value; }

    /// <summary>The framing of its bytes.</summary>
    public TransportKind Transport { get; }

    /// <summary>Everything the user may see up to this position is written or queued.</summary>
    public long Through { get; private set; }

    /// <summary>The device did not answer when asked for acknowledgements.</summary>
    public bool Silent => patience.Silent;

    /// <summary>True while it is fed live.</summary>
    public bool IsLive { get { lock (gate) return mode == Mode.Live; } }

    /// <summary>True once nothing is taken any more; its last words may still have to be written.</summary>
    public bool IsEnded { get { lock (gate) return mode == Mode.Ended; } }

    /// <summary>True once it has ended and everything was taken to be written, its last words too.</summary>
    public bool IsDone { get { lock (gate) return mode == Mode.Ended && !queue.CanWrite; } }

    /// <summary>Sent and not acknowledged.</summary>
    public int Outstanding { get { lock (gate) return sent.Count; } }

    /// <summary>Notifications written to it.</summary>
    public long TotalSent { get { lock (gate) return dispatches.Total; } }

    /// <summary>Something may be written now.</summary>
    public bool HasWords { get { lock (gate) return queue.CanWrite && (!waits || mode == Mode.Ended); } }

    /// <summary>What the session needs next, and the plan to find it under.</summary>
    public (SessionNeed Need, int PlanVersion) Next()
    {
        lock (gate)
        {
            if (waits) return (SessionNeed.None, planVersion);
            if (repeats is not null && repeats.AreDue(clock) && mode != Mode.Ended) return (SessionNeed.Again, planVersion);
            if (mode != Mode.Behind || queue.Entries > 0 || Credit() <= 0) return (SessionNeed.None, planVersion);
            return (need, planVersion);
        }
    }

    /// <inheritdoc/>
    public bool Offer(EntryRun run, long rev, long unread, bool isLast)
    {
        lock (gate)
        {
            if (mode != Mode.Live) return false;
            int room = Math.Min(limits.MaxQueued - queue.Entries, Credit()), count = Math.Clamp(room, 0, run.Count);
            bool waits = !isLast || flushDue;
            if (count > 0) Enqueue(run, count, rev, unread, waits);
            if (count < run.Count) FallBehind();
            if (waits) return FlushWanted();
        }
        wake();
        return false;
    }

    /// <inheritdoc/>
    public bool OfferPassing(string key, ControlMessage message, Action? leftOut)
    {
        bool isDue;
        lock (gate)
        {
            if (mode == Mode.Ended) return false;
            if (queue.AddPassing(key, message, limits.MaxPassing)) leftOut = null;
            isDue = FlushWanted();
        }
        leftOut?.Invoke();
        return isDue;
    }

    /// <inheritdoc/>
    public void Flush()
    {
        lock (gate)
        {
            flushDue = false;
            queue.Release();
        }
        wake();
    }

    /// <summary>The newest list of channels sent after the first; null: none yet.</summary>
    public ChannelList? Channels { get; private set; }

    /// <inheritdoc/>
    public bool Tell(ControlMessage message)
    {
        lock (gate)
        {
            if (mode == Mode.Ended) return false;
            if (message.Channels is { } list) Channels = list;
            if (queue.Count >= limits.MaxQueued * 2)
            {
                // Channel lists are never skipped: the newest one is sent before anything that comes after it.
                if (message.Kind == "channels") missedChannels = message;
                if (mode == Mode.Live) FallBehind();
                totalsStale = true;
                return false;
            }
            queue.Add(message, Through, waits: true);
            return FlushWanted();
        }
    }

    /// <inheritdoc/>
    public bool TellMissed(long head, IReadOnlyList<(long Position, ControlMessage Message)> missed)
    {
        lock (gate)
        {
            long covered = mode == Mode.Live ? head : Through; // a page will bring the rest
            bool isDue = false;
            foreach (var (position, message) in missed)
            {
                if (position <= covered) isDue |= Tell(message);
            }
            return isDue;
        }
    }

    /// <inheritdoc/>
    public bool TotalsMissed()
    {
        lock (gate)
        {
            totalsStale = true;
            if (mode == Mode.Live) FallBehind();
        }
        wake();
        return false;
    }

    /// <summary>Sends a message that depends on no commit, such as a heartbeat.</summary>
    public void Say(ControlMessage message)
    {
        lock (gate)
        {
            if (mode == Mode.Ended || queue.Count >= limits.MaxQueued * 2) return;
            queue.Add(message, Through, waits: false);
        }
        wake();
    }

    /// <summary>Reports a gap. Totals follow once the session is live.</summary>
    public void SayGap(ControlMessage gap)
    {
        lock (gate) totalsStale = true;
        Say(gap);
    }

    /// <summary>A page of the logs was read.</summary>
    /// <param name="items">The entries, in order of position.</param>
    /// <param name="through">The page covers everything visible up to here.</param>
    /// <param name="complete">True when the logs had no more under this plan.</param>
    /// <param name="version">The plan it was read under; an older one is dropped.</param>
    /// <param name="totals">The user's totals.</param>
    public void Feed(IReadOnlyList<PageItem> items, long through, bool complete, int version, Totals totals)
    {
        lock (gate)
        {
            if (mode != Mode.Behind || version != planVersion) return;
            if (missedChannels is { } missed)
            {
                missedChannels = null;
                queue.Add(missed, Through, waits: false);
            }
            foreach (var item in items)
            {
                long position = item.Entry.Position.Value;
                if (position <= Through) continue;
                Enqueue(item.Run(dispatches.AttemptOf(position)), 1, totals.Rev, totals.Unread, waits: false);
            }
            pageSize = Math.Min(pageSize + PageGrowth, limits.MaxQueued);
            Through = Math.Max(Through, through);
            need = complete ? SessionNeed.GoLive : SessionNeed.Page;
        }
        wake();
    }

    /// <inheritdoc/>
    public bool EnterLive(long from, IReadOnlyList<(PageItem Item, long Rev, long Unread)> rest, string cursor, long position,
        Totals totals)
    {
        lock (gate)
        {
            if (Through == from) return mode == Mode.Behind && EnterLive(rest, cursor, position, totals);
        }
        return StayBehind();
    }

    bool EnterLive(IReadOnlyList<(PageItem Item, long Rev, long Unread)> rest, string cursor, long position, Totals totals)
    {
        foreach (var (item, rev, unread) in rest)
        {
            Enqueue(item.Run(dispatches.AttemptOf(item.Entry.Position.Value)), 1, rev, unread, waits: true);
        }
        Through = position;
        mode = Mode.Live;
        if (!everCurrent)
        {
            everCurrent = true;
            queue.Add(Messages.Current(cursor), Through, waits: true);
        }
        if (totalsStale)
        {
            totalsStale = false;
            queue.Add(Messages.TotalsNow(totals), Through, waits: true);
        }
        return FlushWanted();
    }

    /// <inheritdoc/>
    public bool StayBehind()
    {
        lock (gate) need = SessionNeed.Page;
        wake();
        return false;
    }

    /// <inheritdoc/>
    public bool PlanChanged(int version, Sight? sight)
    {
        bool isBehind;
        lock (gate)
        {
            planVersion = version;
            isBehind = mode == Mode.Behind;
            if (isBehind) need = SessionNeed.Page;
            if (sight is not null && queue.Drop(sight) is { Count: > 0 } dropped) sent.Drop(dropped);
            if (sight is not null) repeats?.Drop(sight.Allows);
        }
        if (isBehind) wake();
        return false;
    }

    /// <inheritdoc/>
    public void Dismiss(ControlMessage lastWords) => End(lastWords);

    /// <summary>Called with the last message when another process takes over the space; null: the session ends with it.</summary>
    public Action<ControlMessage>? Moves { get; set; }

    /// <inheritdoc/>
    public void MoveAway(ControlMessage lastWords) => (Moves ?? End)(lastWords);

    /// <summary>Ends the session: drops the queue and writes a last message.</summary>
    /// <param name="lastWords">The message written last; null: none.</param>
    public void End(ControlMessage? lastWords)
    {
        lock (gate)
        {
            if (mode == Mode.Ended) return;
            EndWith(lastWords);
        }
        wake();
    }

    void Enqueue(EntryRun run, int count, long rev, long unread, bool waits)
    {
        // Known as sent from the moment it is queued, so that no ack can come before it is known.
        if (run.AreNotifications) sent.Add(run.Place, 0, count, run.Wires[0].Attempt);
        queue.Add(run, count, rev, unread, waits);
        Through = run.Place.Position + count - 1;
    }

    bool FlushWanted()
    {
        bool first = !flushDue;
        flushDue = true;
        return first;
    }

    int Credit() => patience.Acknowledges ? limits.Window - sent.Count : limits.MaxQueued - queue.Entries;

    void FallBehind()
    {
        mode = Mode.Behind;
        need = SessionNeed.Page;
        totalsStale = true;
    }

    void EndWith(ControlMessage? lastWords)
    {
        queue.Clear();
        if (lastWords is not null) queue.Add(lastWords, Through, waits: false);
        mode = Mode.Ended;
    }
}
