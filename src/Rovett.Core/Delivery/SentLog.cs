using Rovett.Core.Wire;

namespace Rovett.Core.Delivery;

/// <summary>Ordinals of one log that a session acknowledges.</summary>
public readonly record struct AckedRun(long Log, OrdinalRun Run);

/// <summary>Notifications sent to a session and not acknowledged yet, in order of position. An ack can cover nothing
/// else. A session that never acknowledges folds its oldest into runs, so that its size stays bounded.</summary>
sealed class SentLog
{
    const int MaxKept = 1024;

    /// <summary>Numbers <see cref="From"/> to before <see cref="To"/> of a run.</summary>
    record struct Sent(RunPlace Run, int From, int To, int Attempt)
    {
        public readonly long PositionOf(int index) => Run.Position + index;
        public readonly OrdinalRun Ordinals => new(Run.Ordinal + From, Run.Ordinal + To - 1);
    }

    readonly Ring<Sent> kept = new();
    Dictionary<long, OrdinalRun>? folded;
    long foldedThrough;
    int keptCount, foldedCount;

    public int Count => keptCount + foldedCount;

    public void Add(RunPlace run, int from, int to, int attempt)
    {
        while (keptCount + to - from > MaxKept && kept.Count > 0)
        {
            Fold(kept[0]);
            keptCount -= kept[0].To - kept[0].From;
            kept.Dequeue();
        }
        Keep(new Sent(run, from, to, attempt));
    }

    void Keep(in Sent sent)
    {
        kept.Enqueue(sent);
        keptCount += sent.To - sent.From;
    }

    /// <summary>Removes everything up to a position. A folded run is removed whole: an ack that ends inside it removes
    /// none of it, and those are asked for again.</summary>
    public void TakeUpTo(long position, List<AckedRun> into)
    {
        if (foldedCount > 0 && position >= foldedThrough)
        {
            foreach (var (log, run) in folded!) into.Add(new AckedRun(log, run));
            folded.Clear();
            foldedCount = 0;
        }
        while (kept.Count > 0 && kept[0].PositionOf(kept[0].From) <= position)
        {
            ref var sent = ref kept[0];
            int to = (int)Math.Min(sent.To, position - sent.Run.Position + 1);
            Append(into, sent with { To = to });
            keptCount -= to - sent.From;
            if (to == sent.To) kept.Dequeue();
            else sent.From = to;
        }
    }

    /// <summary>Removes single notifications; false when one of them was not sent, or is acknowledged already.</summary>
    public bool Take(IReadOnlyCollection<NotificationId> ids, List<AckedRun> into)
    {
        int found = 0;
        Filter((sent, i) =>
        {
            if (!ids.Contains(sent.Run.Ids[i])) return true;
            found++;
            Append(into, sent with { From = i, To = i + 1 });
            return false;
        });
        return found == ids.Count;
    }

    /// <summary>Finds outstanding notifications to send again, and counts the attempt.</summary>
    public List<AgainItem> Again(IReadOnlyCollection<NotificationId> ids)
    {
        var found = new List<AgainItem>();
        var all = kept.TakeAll();
        keptCount = 0;
        foreach (var sent in all)
        {
            int from = sent.From;
            for (int i = sent.From; i < sent.To; i++)
            {
                if (!ids.Contains(sent.Run.Ids[i])) continue;
                if (i > from) Keep(sent with { From = from, To = i });
                Keep(sent with { From = i, To = i + 1, Attempt = sent.Attempt + 1 });
                found.Add(new AgainItem(sent.PositionOf(i), sent.Run.Log, sent.Run.Ordinal + i, sent.Attempt + 1));
                from = i + 1;
            }
            if (sent.To > from) Keep(sent with { From = from });
        }
        return found;
    }

    /// <summary>Whether a notification is outstanding.</summary>
    public bool Has(long position)
    {
        for (int i = 0; i < kept.Count; i++)
        {
            if (position >= kept[i].PositionOf(kept[i].From) && position < kept[i].PositionOf(kept[i].To)) return true;
        }
        return false;
    }

    /// <summary>Drops single notifications: they were never sent.</summary>
    public void Drop(HashSet<long> positions) => Filter((sent, i) => !positions.Contains(sent.PositionOf(i)));

    /// <summary>Drops all that comes after a position: it was never sent.</summary>
    public void DropAfter(long position) => Filter((sent, i) => sent.PositionOf(i) <= position);

    void Filter(Func<Sent, int, bool> keep)
    {
        var all = kept.TakeAll();
        keptCount = 0;
        foreach (var sent in all)
        {
            foreach (var (from, to) in Pieces(sent.From, sent.To, i => keep(sent, i))) Keep(sent with { From = from, To = to });
        }
    }

    /// <summary>The parts of a range that are to be kept.</summary>
    internal static List<(int From, int To)> Pieces(int from, int to, Func<int, bool> keep)
    {
        var pieces = new List<(int, int)>();
        for (int i = from; i <= to; i++)
        {
            if (i < to && keep(i)) continue;
            if (i > from) pieces.Add((from, i));
            from = i + 1;
        }
        return pieces;
    }

    void Fold(in Sent sent)
    {
        // A session is sent a log's ordinals in rising order; what lies between two of them is not the user's to see.
        // Where they are not adjacent the older run is let go, which costs a repeat and nothing else.
        folded ??= [];
        var ordinals = sent.Ordinals;
        bool adjacent = folded.TryGetValue(sent.Run.Log, out var run) && run.To + 1 == ordinals.From;
        folded[sent.Run.Log] = new OrdinalRun(adjacent ? run.From : ordinals.From, ordinals.To);
        foldedThrough = sent.PositionOf(sent.To - 1);
        foldedCount = (int)Math.Min(int.MaxValue, folded.Values.Sum(r => r.Count));
    }

    static void Append(List<AckedRun> into, in Sent sent)
    {
        var ordinals = sent.Ordinals;
        for (int i = into.Count - 1; i >= 0 && i >= into.Count - 8; i--)
        {
            if (into[i].Log != sent.Run.Log || into[i].Run.To + 1 != ordinals.From) continue;
            into[i] = new AckedRun(sent.Run.Log, into[i].Run with { To = ordinals.To });
            return;
        }
        into.Add(new AckedRun(sent.Run.Log, ordinals));
    }
}
