namespace Rovett.Core.Delivery;

/// <summary>Notifications to send again to one session because its handler failed, each after a delay that
/// doubles. Guarded by its session.</summary>
sealed class Repeats
{
    readonly List<(TimeSpan Due, AgainItem Item)> waiting = []; // the soonest first

    public bool IsEmpty => waiting.Count == 0;

    /// <summary>Whether one is due.</summary>
    public bool AreDue(TimeSpan now) => waiting.Count > 0 && waiting[0].Due <= now;

    /// <summary>Schedules a repeat, unless one is scheduled already.</summary>
    public void Add(AgainItem item, TimeSpan now)
    {
        if (waiting.Exists(w => w.Item.Position == item.Position)) return;
        waiting.Add((now + TimeSpan.FromSeconds(Math.Pow(2, Math.Min(item.Attempt, 8) - 2)), item));
        waiting.Sort((a, b) => a.Due.CompareTo(b.Due));
    }

    /// <summary>Takes the repeats that are due off the schedule.</summary>
    public List<AgainItem> Take(TimeSpan now)
    {
        int count = waiting.FindIndex(w => w.Due > now) is var later and >= 0 ? later : waiting.Count;
        var due = waiting.GetRange(0, count).ConvertAll(w => w.Item);
        waiting.RemoveRange(0, count);
        return due;
    }

    /// <summary>Drops notifications that are no longer visible to the user.</summary>
    public void Drop(Func<long, long, bool> allowed) => waiting.RemoveAll(w => !allowed(w.Item.Log, w.Item.Ordinal));
}
