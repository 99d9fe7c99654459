namespace Rovett.Service.Ledgers;

/// <summary>Cuts what one request asks for into commits that take the ledger a few milliseconds each, so that others have their turn
/// in between.</summary>
static class Parts
{
    const int MostAtOnce = 50;

    /// <summary>The end of the part that begins at an index: events and notifications, fifty together.</summary>
    /// <param name="all">All of it.</param>
    /// <param name="from">Where the part begins.</param>
    /// <param name="notifications">How many notifications an item makes.</param>
    public static int End<T>(IReadOnlyList<T> all, int from, Func<T, int> notifications)
    {
        int to = from;
        for (int sum = 0; to < all.Count && (to == from || sum < MostAtOnce); to++) sum += 1 + notifications(all[to]);
        return to;
    }
}
