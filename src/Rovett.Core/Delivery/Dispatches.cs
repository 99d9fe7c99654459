using Rovett.Core.Wire;

namespace Rovett.Core.Delivery;

/// <summary>What a session has dispatched: bytes that its connection took. Not safe for several threads by itself.</summary>
sealed class Dispatches
{
    DispatchMark user = null!; // both set by Join
    DispatchMark[] device = null!;

    /// <summary>Handed out and not yet accepted by the socket; emptied by <see cref="Written"/>.</summary>
    public List<(EntryRun Run, int From, int To)> UnderWay { get; } = [];

    /// <summary>Called with what was written; null: nobody asks.</summary>
    public Action<IReadOnlyList<(EntryRun Run, int From, int To)>>? Taken { get; set; }

    /// <summary>When the first of <see cref="UnderWay"/> was sent; null: it is no notification, or there is none.</summary>
    public StoredTime? SentAt => UnderWay is [var (run, from, _), ..] && run.AreNotifications ? run.Wires[from].Entry.Time : null;

    /// <summary>Those that were written and are shown in traces; null: none since they were taken.</summary>
    public List<TracedDispatch>? Traced { get; set; }

    /// <summary>Notifications written.</summary>
    public long Total { get; set; }

    /// <summary>Sets the marks of the session's user.</summary>
    /// <param name="ofUser">The user's dispatch mark.</param>
    /// <param name="ofDevice">The marks of the device's sessions, this one's last.</param>
    public void Join(DispatchMark ofUser, DispatchMark[] ofDevice) => (user, device) = (ofUser, ofDevice);

    /// <summary>They are set.</summary>
    public bool HaveMarks => device is not null;

    /// <summary>How often this device is sent what stands at a position, with this time, as far as this process knows.</summary>
    public int AttemptOf(long position)
    {
        int attempt = 1;
        for (int i = 0; i < device.Length - 1; i++)
        {
            if (device[i].Through >= position) attempt++;
        }
        return attempt;
    }

    /// <summary>The socket accepted everything handed out.</summary>
    /// <param name="lane">A number that sessions written at the same time do not share: the processor's.</param>
    public void Written(int lane)
    {
        if (UnderWay.Count == 0) return;
        long last = 0;
        foreach (var (run, _, to) in UnderWay) last = Math.Max(last, run.Place.Position + to - 1);
        device[^1].Advance(last);
        long before = user.Advance(last);
        foreach (var (run, from, to) in UnderWay)
        {
            if (!run.AreNotifications) continue;
            Total += to - from;
            for (int i = from; i < to; i++)
            {
                if (run.Wires[i].Entry.Trace is { } trace)
                    (Traced ??= []).Add(new TracedDispatch(trace, run.Wires[i].Entry, run.Place.Log, run.Place.Ordinal + i));
            }
            for (int i = (int)Math.Max(from, before - run.Place.Position + 1); i < to; i++) run.Wires[i].Entry.CountDispatched(lane);
        }
        Taken?.Invoke(UnderWay);
        UnderWay.Clear();
    }
}
