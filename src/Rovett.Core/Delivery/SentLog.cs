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
    readonly record struct Sent(long Position, long Log, long Ordinal, NotificationId Id, int Attempt);

    Queue<Sent>? kept;
    Dictionary<long, OrdinalRun>? folded;
    long foldedThrough;
    int foldedCount;

    public int Count => (kept?.Count ?? 0) + foldedCount;

    public void Add(long position, long log, long ordinal, NotificationId id, int attempt)
    {
        kept ??= new Queue<Sent>();
        if (kept.Count >= MaxKept) Fold(kept.Dequeue());
        kept.Enqueue(new Sent(position, log, ordinal, id, attempt));
    }

    /// <summary>Takes out everything up to a position. What was folded goes as one: an ack that ends inside it takes
    /// none of it, and those are asked for again.</summary>
    public void TakeUpTo(long position, List<AckedRun> into)
    {
        if (foldedCount > 0 && position >= foldedThrough)
        {
            foreach (var (log, run) in folded!) into.Add(new AckedRun(log, run));
            folded.Clear();
            foldedCount = 0;
        }
        while (kept is not null && kept.TryPeek(out var sent) && sent.Position <= position)
        {
            kept.Dequeue();
            Append(into, sent);
        }
    }

    /// <summary>Takes out single notifications; false when one of them was not sent, or is acknowledged already.</summary>
    public bool Take(IReadOnlyCollection<NotificationId> ids, List<AckedRun> into)
    {
        int found = 0;
        for (int i = kept?.Count ?? 0; i > 0; i--)
        {
            var sent = kept!.Dequeue();
            if (ids.Contains(sent.Id))
            {
                found++;
                Append(into, sent);
            }
            else kept.Enqueue(sent);
        }
        return found == ids.Count;
    }

    /// <summary>Finds outstanding notifications that are wanted once more, and counts the attempt.</summary>
    public List<AgainItem> Again(IReadOnlyCollection<NotificationId> ids)
    {
        var found = new List<AgainItem>();
        for (int i = kept?.Count ?? 0; i > 0; i--)
        {
            var sent = kept!.Dequeue();
            if (ids.Contains(sent.Id))
            {
                sent = sent with { Attempt = sent.Attempt + 1 };
                found.Add(new AgainItem(sent.Position, sent.Log, sent.Ordinal, sent.Attempt));
            }
            kept.Enqueue(sent);
        }
        return found;
    }

    /// <summary>Whether a notification is outstanding.</summary>
    public bool Has(long position)
    {
        if (kept is null) return false;
        foreach (var sent in kept)
        {
            if (sent.Position == position) return true;
        }
        return false;
    }

    /// <summary>Forgets what lies after a position: it was never sent.</summary>
    public void Forget(long after)
    {
        for (int i = kept?.Count ?? 0; i > 0; i--)
        {
            var sent = kept!.Dequeue();
            if (sent.Position <= after) kept.Enqueue(sent);
        }
    }

    /// <summary>Forgets single notifications: they were never sent.</summary>
    public void Drop(HashSet<long> positions)
    {
        for (int i = kept?.Count ?? 0; i > 0; i--)
        {
            var sent = kept!.Dequeue();
            if (!positions.Contains(sent.Position)) kept.Enqueue(sent);
        }
    }

    void Fold(Sent sent)
    {
        // A session is sent a log's ordinals in rising order; what lies between two of them is not the user's to see.
        // Where they are not adjacent the older run is let go, which costs a repeat and nothing else.
        folded ??= [];
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
