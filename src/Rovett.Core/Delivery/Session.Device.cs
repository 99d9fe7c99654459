using Rovett.Core.Visibility;
using Rovett.Core.Wire;

namespace Rovett.Core.Delivery;

/// <summary>The connection's side of a session: input from the device, and bytes to write.</summary>
public sealed partial class Session
{
    /// <summary>Queues the first messages and starts the session.</summary>
    /// <param name="first">Messages to send before everything else.</param>
    /// <param name="after">The device has everything up to here.</param>
    public void Open(IReadOnlyList<ControlMessage> first, Position after)
    {
        lock (gate)
        {
            waits = false;
            if (!everCurrent) Through = after.Value; // or it was live from the first moment on
            if (mode != Mode.Ended) queue.Begin(first, after.Value); // or it was dismissed while it was let in, and has its last word
        }
        wake();
    }

    /// <summary>Maximum entries of the next page.</summary>
    /// <remarks>The first is short, and each may be a little longer than the one before: a device that does not read has one
    /// short page in memory.</remarks>
    public int PageSize { get { lock (gate) return Math.Clamp(Credit(), 1, pageSize); } }

    /// <summary>The device reads fast enough for long pages.</summary>
    public bool TakesLongPages { get { lock (gate) return mode == Mode.Behind && pageSize >= LongPage; } }

    /// <inheritdoc/>
    public bool HasRoomFor(int entries) => entries <= Room;

    /// <summary>How many entries may be queued before the device has read any.</summary>
    public int Room { get { lock (gate) return Math.Min(MostAtOnce, Credit()); } }

    /// <summary>Queues an answer to the device. Ends a session whose device keeps sending and never reads.</summary>
    /// <returns>False when the session was ended.</returns>
    public bool Answer(ControlMessage message)
    {
        bool kept = true;
        Session? other;
        lock (gate)
        {
            other = successor;
            if (mode == Mode.Ended) kept = false;
            else if (++answers > limits.MaxAnswers)
            {
                EndWith(Messages.Ending("too-slow", 5000));
                kept = false;
            }
            else queue.Add(message, Through, waits: false);
        }
        if (other is not null) return other.Answer(message); // it was replaced meanwhile
        wake();
        return kept;
    }

    /// <summary>Queues bytes that are framed already (a pong, a ping).</summary>
    public void Raw(byte[] bytes)
    {
        lock (gate)
        {
            if (mode == Mode.Ended || queue.Count >= limits.MaxAnswers) return;
            queue.Add(bytes);
        }
        wake();
    }

    /// <summary>The device's handler failed: schedules outstanding notifications to be sent again, after a delay that doubles.</summary>
    /// <param name="ids">Their ids.</param>
    /// <param name="now">The time.</param>
    /// <param name="tooOften">True when one of them was sent as often as it ever will be.</param>
    /// <returns>False when an id was named that is not outstanding.</returns>
    public bool WantAgain(IReadOnlyCollection<NotificationId> ids, TimeSpan now, out bool tooOften)
    {
        Session other;
        lock (gate)
        {
            if (successor is null)
            {
                patience.Acknowledged(now);
                var found = sent.Again(ids);
                tooOften = found.Exists(f => f.Attempt > limits.MaxAttempts);
                repeats ??= new Repeats();
                foreach (var item in found)
                {
                    if (item.Attempt <= limits.MaxAttempts) repeats.Add(item, now);
                }
                return found.Count == ids.Count;
            }
            other = successor;
        }
        return other.WantAgain(ids, now, out tooOften);
    }

    /// <summary>Notifications to send again now.</summary>
    public List<AgainItem> TakeAgain()
    {
        lock (gate)
        {
            return repeats?.Take(clock).FindAll(item => sent.Has(item.Position)) ?? [];
        }
    }

    /// <summary>Sends notifications again, as far as they are still visible to the user.</summary>
    public void Repeat(IReadOnlyList<(AgainItem Item, EntryWire Wire)> items, int version, Totals totals)
    {
        lock (gate)
        {
            if (mode == Mode.Ended || version != planVersion) return;
            foreach (var (item, wire) in items)
            {
                queue.Add(EntryRun.Of(wire, item.Log, item.Ordinal), 1, totals.Rev, totals.Unread, waits: false);
            }
        }
        wake();
    }

    /// <summary>Takes an acknowledgement into account, as far as this session was sent what it names.</summary>
    /// <param name="upTo">Everything up to this position, or null.</param>
    /// <param name="ids">These, or null.</param>
    /// <param name="now">The time.</param>
    /// <param name="acked">The runs that are now received.</param>
    /// <returns>False when an id was named that this session was not sent.</returns>
    public bool Acknowledge(Position? upTo, IReadOnlyCollection<NotificationId>? ids, TimeSpan now, List<AckedRun> acked)
    {
        bool known = true;
        Session? other;
        lock (gate)
        {
            other = successor;
            if (other is null)
            {
                patience.Acknowledged(now);
                if (upTo is { } position) sent.TakeUpTo(position.Value, acked);
                if (ids is not null) known = sent.Take(ids, acked);
            }
        }
        if (other is not null) return other.Acknowledge(upTo, ids, now, acked);
        wake();
        return known;
    }

    /// <summary>The device sent something.</summary>
    public void HeardAnything(TimeSpan now)
    {
        lock (gate) patience.Heard(now);
    }

    /// <summary>Time passed.</summary>
    /// <returns>True when a heartbeat is due: nothing was written for a while.</returns>
    public bool Tick(TimeSpan now)
    {
        bool due;
        lock (gate)
        {
            clock = now;
            if (mode == Mode.Ended) return false;
            if (sent.Count > 0 && patience.IsOver(now)) queue.Add(Messages.AckDue(sent.Count), Through, waits: false);
            due = queue.Count == 0 && now - lastWrite >= limits.Heartbeat;
            if (queue.Count == 0 && repeats is null or { IsEmpty: true }) return due;
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
        lock (gate)
        {
            large = null;
            if (waits && mode != Mode.Ended) return 0;
            int written = queue.Drain(into, out large, dispatches.UnderWay, out int others);
            (toBegin, drainedBefore) = (true, drained);
            if (dispatches.UnderWay is [.., var (run, _, to)]) drained = Math.Max(drained, run.Place.Position + to - 1);
            answers = Math.Max(0, answers - others);
            return written;
        }
    }

    /// <summary>The bytes of <see cref="Drain"/> are about to be written. Until then they go to the one that takes over the connection,
    /// if it is replaced.</summary>
    /// <returns>False: it was replaced, and they must not be written.</returns>
    public bool Begins()
    {
        lock (gate)
        {
            toBegin = false;
            return successor is null;
        }
    }

    /// <summary>What was written since it was last taken, and is shown in traces; null: nothing.</summary>
    public IReadOnlyList<TracedDispatch>? TakeTraced()
    {
        lock (gate)
        {
            var traced = dispatches.Traced;
            dispatches.Traced = null;
            return traced;
        }
    }

    /// <summary>The socket accepted the bytes of <see cref="Drain"/>, which count as dispatched from now on.</summary>
    /// <param name="now">The time.</param>
    /// <param name="lane">A number that sessions written at the same time do not share: the processor's.</param>
    /// <returns>When the first notification among them was sent; null: there was none, or the session is not live.</returns>
    public StoredTime? Written(TimeSpan now, int lane = 0)
    {
        lock (gate)
        {
            lastWrite = now;
            toBegin = false;
            StoredTime? sentAt = mode == Mode.Live ? dispatches.SentAt : null;
            dispatches.Written(lane);
            return sentAt;
        }
    }
}
