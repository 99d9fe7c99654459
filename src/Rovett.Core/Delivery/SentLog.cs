using Rovett.Core.AddressLogs;
using Rovett.Core.Marks;

namespace Rovett.Core.Delivery;

/// <summary>Ordinals of one log that a session was sent and now acknowledges.</summary>
public readonly record struct AckedRun(long Log, OrdinalRun Run);

/// <summary>What a session was sent and has not acknowledged, in the order of positions. An ack can cover nothing
/// else. A session that never acknowledges folds its oldest into runs, so that its size stays bounded.</summary>
sealed class SentLog
{
    const int MaxKept = 1024;
    readonly record struct Sent(long Position, long Log, long Ordinal, NotificationId Id);

    readonly Queue<Sent> kept = new();
    readonly Dictionary<long, OrdinalRun> folded = [];
    long foldedThrough;
    int foldedCount;

    public int Count => kept.Count + foldedCount;

    public void Add(long position, long log, long ordinal, NotificationId id)
    {
        if (kept.Count >= MaxKept) Fold(kept.Dequeue());
        kept.Enqueue(new Sent(position, log, ordinal, id));
    }

    /// <summary>Takes out everything up to a position. What was folded goes as one: an ack that ends inside it takes
    /// none of it, and those are asked for again.</summary>
    public void TakeUpTo(long position, List<AckedRun> into)
    {
        if (foldedCount > 0 && position >= foldedThrough)
        {
            foreach (var (log, run) in folded) into.Add(new AckedRun(log, run));
            folded.Clear();
            foldedCount = 0;
        }
        while (kept.TryPeek(out var sent) && sent.Position <= position)
        {
            kept.Dequeue();
            Append(into, sent);
        }
    }

    /// <summary>Takes out single notifications; false when one of them was not sent, or is acknowledged already.</summary>
    public bool Take(IReadOnlyCollection<NotificationId> ids, List<AckedRun> into)
    {
        int found = 0;
        for (int i = kept.Count; i > 0; i--)
        {
            var sent = kept.Dequeue();
            if (ids.Contains(sent.Id))
            {
                found++;
                Append(into, sent);
            }
            else kept.Enqueue(sent);
        }
        return found == ids.Count;
    }

    void Fold(Sent sent)
    {
        // A session is sent a log's ordinals in rising order; what lies between two of them is not the user's to see.
        // Where they are not adjacent the older run is let go, which costs a repeat and nothing else.
        bool adjacent = folded.TryGetValue(sent.Log, out var run) && run.To + 1 == sent.Ordinal;
        folded[sent.Log] = new OrdinalRun(adjacent ? run.From : sent.Ordinal, sent.Ordinal);
        foldedThrough = sent.Position;
        foldedCount = (int)Math.Min(int.MaxValue, folded.Values.Sum(r => r.Count));
    }

    static void Append(List<AckedRun> into, Sent sent)
    {
        for (int i = into.Count - 1; i >= 0 && i >= into.Count - 8; i--)
        {
            if (into[i].Log != sent.Log || into[i].Run.To + 1 != sent.Ordinal) continue;
            into[i] = new AckedRun(sent.Log, into[i].Run with { To = sent.Ordinal });
            return;
        }
        into.Add(new AckedRun(sent.Log, new OrdinalRun(sent.Ordinal, sent.Ordinal)));
    }
}
