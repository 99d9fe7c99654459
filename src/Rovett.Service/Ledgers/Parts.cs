namespace Rovett.Service.Ledgers;

/// <summary>Cuts what one request asks for into commits that take the ledger a few milliseconds each, so that others have their turn
/// in between.</summary>
static class Parts
{
    /// <summary>How many events and notifications are in a part that waits for the one before it.</summary>
    public const int OneByOne = 50;

    /// <summary>How many are in a part where all parts are asked for at once: without others, several go into a commit.</summary>
    public const int AllAtOnce = 20;

    /// <summary>The end of the part that begins at an index.</summary>
    /// <param name="all">All of it.</param>
    /// <param name="from">Where the part begins.</param>
    /// <param name="most">How many events and notifications are in a part.</param>
    /// <param name="notifications">How many notifications an item makes.</param>
    public static int End<T>(IReadOnlyList<T> all, int from, int most, Func<T, int> notifications)
    {
        int to = from;
        for (int sum = 0; to < all.Count && (to == from || sum < most); to++) sum += 1 + notifications(all[to]);
        return to;
    }

    /// <summary>Lets waiting work run first after every 16th item, so that a request with many does not keep a thread of the pool for
    /// itself.</summary>
    /// <param name="done">How many items are done.</param>
    public static async ValueTask MakeWay(int done)
    {
        if (done % 16 == 15) await Task.Yield();
    }
}
