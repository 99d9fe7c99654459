namespace Rovett.Service.Events;

/// <summary>Cuts many events into commits that take the ledger a few milliseconds each.</summary>
static class EventParts
{
    const int MostAtOnce = 50;

    /// <summary>The end of the part that begins at an index: events and the notifications that they make, fifty together.</summary>
    /// <param name="all">All events.</param>
    /// <param name="from">Where the part begins.</param>
    /// <param name="notifications">How many notifications an event makes.</param>
    public static int End<T>(IReadOnlyList<T> all, int from, Func<T, int> notifications)
    {
        int to = from;
        for (int sum = 0; to < all.Count && (to == from || sum < MostAtOnce); to++) sum += 1 + notifications(all[to]);
        return to;
    }
}
