using Rovett.Core.AddressLogs;
using Rovett.Core.WebSockets;

namespace Rovett.Core.Delivery;

/// <summary>One live connection of one device, as a state machine without I/O: messages, offers, pages and time go in;
/// bytes come out. Safe to call from several threads.</summary>
public sealed class Session : ISessionPort
{
    enum Mode { Behind, Live, Ended }

    readonly record struct Item(NotificationWire? Wire, ControlMessage? Control, byte[]? Raw, long Log, long Ordinal, long Rev, long Unread);

    readonly Lock gate = new();
    readonly Queue<Item> queue = new();
    readonly SentLog sent = new();
    readonly Action wake;
    readonly SessionLimits limits;
    readonly DispatchMark dispatched;
    readonly List<OutgoingNotification> underWay = [];

    Mode mode = Mode.Behind;
    SessionNeed need = SessionNeed.Page;
    bool creditOn, everCurrent, totalsStale, flushDue;
    int planVersion, answers, questions, notificationsQueued;
    TimeSpan lastWrite, ackClock;
    long totalSent;

    /// <summary>Makes a session that is behind, and says nothing before <see cref="Open"/>.</summary>
    /// <param name="transport">How its bytes are framed.</param>
    /// <param name="limits">Its limits.</param>
    /// <param name="plan">The number of the user's present plan.</param>
    /// <param name="dispatched">The user's dispatch mark.</param>
    /// <param name="now">Time since an arbitrary start; the same clock as <see cref="Tick"/>.</param>
    /// <param name="wake">Called, without any lock of the caller's, when there is something to do: must be quick.</param>
    public Session(TransportKind transport, SessionLimits limits, int plan, DispatchMark dispatched, TimeSpan now, Action wake)
    {
        Transport = transport;
        this.limits = limits;
        this.dispatched = dispatched;
        planVersion = plan;
        this.wake = wake;
        lastWrite = ackClock = now;
    }

    /// <summary>How its bytes are framed.</summary>
    public TransportKind Transport { get; }

    /// <summary>Everything the user may see up to this position is written or queued.</summary>
    public long Through { get; private set; }

    /// <summary>It was asked for acknowledgements and said nothing.</summary>
    public bool Silent { get; private set; }

    /// <summary>True while it is fed live.</summary>
    public bool IsLive { get { lock (gate) return mode == Mode.Live; } }

    /// <summary>True once nothing more is to be written.</summary>
    public bool IsEnded { get { lock (gate) return mode == Mode.Ended; } }

    /// <summary>Sent and not acknowledged.</summary>
    public int Outstanding { get { lock (gate) return sent.Count; } }

    /// <summary>Notifications written to it.</summary>
    public long TotalSent { get { lock (gate) return totalSent; } }

    /// <summary>Says the first words, and begins.</summary>
    /// <param name="first">The messages that come before everything else.</param>
    /// <param name="after">The device has everything up to here.</param>
    public void Open(IReadOnlyList<ControlMessage> first, Position after)
    {
        lock (gate)
        {
            Through = after.Value;
            var waiting = queue.ToArray();
            queue.Clear();
            foreach (var message in first) queue.Enqueue(new Item(null, message, null, 0, 0, 0, 0));
            foreach (var item in waiting) queue.Enqueue(item);
        }
        wake();
    }

    /// <summary>What it needs now, with the plan it must be found under.</summary>
    public (SessionNeed Need, int PlanVersion) Next()
    {
        lock (gate)
        {
            if (mode != Mode.Behind || notificationsQueued > 0 || Credit() <= 0) return (SessionNeed.None, planVersion);
            return (need, planVersion);
        }
    }

    /// <summary>How many notifications the next page may have.</summary>
    public int PageSize { get { lock (gate) return Math.Clamp(Credit(), 1, limits.MaxQueued); } }

    /// <inheritdoc/>
    public bool Offer(NotificationWire wire, long log, long ordinal, long rev, long unread)
    {
        lock (gate)
        {
            if (mode != Mode.Live) return false;
            if (notificationsQueued >= limits.MaxQueued || Credit() <= 0) FallBehind();
            else Enqueue(wire, log, ordinal, rev, unread);
            bool first = !flushDue;
            flushDue = true;
            return first;
        }
    }

    /// <inheritdoc/>
    public void Flush()
    {
        lock (gate) flushDue = false;
        wake();
    }

    /// <inheritdoc/>
    public void Tell(ControlMessage message)
    {
        lock (gate)
        {
            if (mode == Mode.Ended) return;
            if (queue.Count >= limits.MaxQueued * 2)
            {
                if (mode == Mode.Live) FallBehind();
                totalsStale = true;
                return;
            }
            queue.Enqueue(new Item(null, message, null, 0, 0, 0, 0));
        }
        wake();
    }

    /// <summary>Answers the device. One that sends without end and never reads is ended.</summary>
    /// <returns>False when it is now ended for that.</returns>
    public bool Answer(ControlMessage message)
    {
        bool kept = true;
        lock (gate)
        {
            if (mode == Mode.Ended) return false;
            if (++answers > limits.MaxAnswers)
            {
                EndWith(Messages.Ending("too-slow", 5000));
                kept = false;
            }
            else queue.Enqueue(new Item(null, message, null, 0, 0, 0, 0));
        }
        wake();
        return kept;
    }

    /// <summary>Queues bytes that are framed already (a pong, a ping).</summary>
    public void Raw(byte[] bytes)
    {
        lock (gate)
        {
            if (mode == Mode.Ended || queue.Count >= limits.MaxAnswers) return;
            queue.Enqueue(new Item(null, null, bytes, 0, 0, 0, 0));
        }
        wake();
    }

    /// <summary>A page of the logs was read.</summary>
    /// <param name="items">In the order of positions.</param>
    /// <param name="through">Nothing visible up to here is missing any more.</param>
    /// <param name="complete">True when the logs had no more under this plan.</param>
    /// <param name="version">The plan it was read under; an older one is dropped.</param>
    /// <param name="totals">The user's totals.</param>
    public void Feed(IReadOnlyList<PageItem> items, long through, bool complete, int version, Totals totals)
    {
        lock (gate)
        {
            if (mode != Mode.Behind || version != planVersion) return;
            foreach (var item in items)
            {
                if (item.Notification.Position.Value <= Through) continue;
                Enqueue(item.Notification.WireFor(item.Address), item.Log, item.Ordinal, totals.Rev, totals.Unread);
            }
            Through = Math.Max(Through, through);
            need = complete ? SessionNeed.GoLive : SessionNeed.Page;
        }
        wake();
    }

    /// <inheritdoc/>
    public void EnterLive(IReadOnlyList<(PageItem Item, long Rev, long Unread)> rest, string cursor, long position, Totals totals)
    {
        lock (gate)
        {
            if (mode != Mode.Behind) return;
            foreach (var (item, rev, unread) in rest) Enqueue(item.Notification.WireFor(item.Address), item.Log, item.Ordinal, rev, unread);
            Through = position;
            mode = Mode.Live;
            if (!everCurrent)
            {
                everCurrent = true;
                queue.Enqueue(new Item(null, Messages.Current(cursor), null, 0, 0, 0, 0));
            }
            if (totalsStale)
            {
                totalsStale = false;
                queue.Enqueue(new Item(null, Messages.TotalsNow(totals), null, 0, 0, 0, 0));
            }
        }
        wake();
    }

    /// <summary>There was more than memory could give: read another page.</summary>
    public void StayBehind()
    {
        lock (gate) need = SessionNeed.Page;
        wake();
    }

    /// <inheritdoc/>
    public void PlanChanged(int version, IReadOnlySet<long>? allowed)
    {
        lock (gate)
        {
            planVersion = version;
            if (mode == Mode.Behind) need = SessionNeed.Page;
            for (int i = queue.Count; allowed is not null && i > 0; i--)
            {
                var item = queue.Dequeue();
                if (item.Wire is null || allowed.Contains(item.Log)) queue.Enqueue(item);
                else notificationsQueued--;
            }
        }
        wake();
    }

    /// <inheritdoc/>
    public void StoreLost() => End(Messages.Ending("store-unavailable", 5000));

    /// <summary>The device acknowledged. Answers what of it counts: only what this session was sent.</summary>
    /// <param name="upTo">Everything up to this position, or null.</param>
    /// <param name="ids">These, or null.</param>
    /// <param name="now">The time.</param>
    /// <param name="acked">The runs that are now received.</param>
    /// <returns>False when an id was named that this session was not sent.</returns>
    public bool Acknowledge(Position? upTo, IReadOnlyCollection<NotificationId>? ids, TimeSpan now, List<AckedRun> acked)
    {
        bool known = true;
        lock (gate)
        {
            creditOn = true;
            Heard(now);
            if (upTo is { } position) sent.TakeUpTo(position.Value, acked);
            if (ids is not null) known = sent.Take(ids, acked);
        }
        wake();
        return known;
    }

    /// <summary>Anything at all came from the device.</summary>
    public void HeardAnything(TimeSpan now)
    {
        lock (gate) Heard(now);
    }

    /// <summary>Ends the session: what is queued is dropped, the last words are written.</summary>
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

    /// <summary>Time passed.</summary>
    /// <returns>True when a heartbeat is due: nothing was written for a while.</returns>
    public bool Tick(TimeSpan now)
    {
        bool due;
        lock (gate)
        {
            if (mode == Mode.Ended) return false;
            if (creditOn && sent.Count > 0 && now - ackClock >= limits.AckTimeout)
            {
                ackClock = now;
                if (++questions > limits.QuestionsUntilSilent) Silent = true;
                queue.Enqueue(new Item(null, Messages.AckDue(sent.Count), null, 0, 0, 0, 0));
            }
            due = queue.Count == 0 && now - lastWrite >= limits.Heartbeat;
            if (queue.Count == 0) return due;
        }
        wake();
        return due;
    }

    /// <summary>Takes bytes to write, as many whole messages as fit.</summary>
    /// <param name="into">Where they go; the first message that is too long for it comes as <paramref name="large"/>.</param>
    /// <param name="large">A message longer than the buffer, alone.</param>
    /// <returns>Bytes put into <paramref name="into"/>.</returns>
    public int Drain(Span<byte> into, out byte[]? large)
    {
        large = null;
        int written = 0;
        lock (gate)
        {
            while (queue.TryPeek(out var item))
            {
                if (item.Wire is { } wire)
                {
                    int length = wire.Length(Transport);
                    if (length > into.Length - written)
                    {
                        if (written > 0) break;
                        large = new byte[length];
                        wire.Write(Transport, item.Rev, item.Unread, large);
                    }
                    else written += wire.Write(Transport, item.Rev, item.Unread, into[written..]);
                    notificationsQueued--;
                    totalSent++;
                    underWay.Add(wire.Notification);
                }
                else
                {
                    var bytes = item.Raw ?? Encode(item.Control!);
                    if (bytes.Length > into.Length - written)
                    {
                        if (written > 0) break;
                        large = bytes;
                    }
                    else
                    {
                        bytes.CopyTo(into[written..]);
                        written += bytes.Length;
                    }
                    answers = Math.Max(0, answers - 1);
                }
                queue.Dequeue();
                if (large is not null) break;
            }
        }
        return written;
    }

    /// <summary>The socket took what <see cref="Drain"/> gave: only now is it dispatched.</summary>
    public void Written(TimeSpan now)
    {
        lock (gate)
        {
            lastWrite = now;
            if (underWay.Count == 0) return;
            long before = dispatched.Advance(underWay[^1].Position.Value);
            foreach (var notification in underWay)
            {
                if (notification.Position.Value > before) notification.CountDispatched();
            }
            underWay.Clear();
        }
    }

    void Enqueue(NotificationWire wire, long log, long ordinal, long rev, long unread)
    {
        // Known as sent from the moment it is queued, so that no ack can come before it is known.
        sent.Add(wire.Notification.Position.Value, log, ordinal, wire.Notification.Id);
        queue.Enqueue(new Item(wire, null, null, log, ordinal, rev, unread));
        notificationsQueued++;
        Through = wire.Notification.Position.Value;
    }

    byte[] Encode(ControlMessage message) => Transport == TransportKind.WebSocket
        ? FrameWriter.Text(message.Json)
        : SseWriter.Event(message.Kind, message.Cursor, message.Json);

    int Credit() => creditOn ? limits.Window - sent.Count : limits.MaxQueued - notificationsQueued;

    void FallBehind()
    {
        mode = Mode.Behind;
        need = SessionNeed.Page;
        totalsStale = true;
    }

    void Heard(TimeSpan now)
    {
        ackClock = now;
        questions = 0;
        Silent = false;
    }

    void EndWith(ControlMessage? lastWords)
    {
        queue.Clear();
        notificationsQueued = 0;
        if (lastWords is not null) queue.Enqueue(new Item(null, lastWords, null, 0, 0, 0, 0));
        mode = Mode.Ended;
    }
}
