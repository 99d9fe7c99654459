namespace Rovett.Core.Ledgers;

/// <summary>Bounds the unused part of the ledger's memory over all spaces: users who are not connected, and
/// logs, roles and the like that no user in memory sees. Everything dropped is read again when needed.
/// Owned by the ledger's thread; works between batches, a little at a time.</summary>
/// <param name="mostIdle">How many users who are not connected stay.</param>
/// <param name="mostLoose">How many logs, addresses, roles and topics stay before unused ones are dropped.</param>
sealed class Residents(int mostIdle, int mostLoose)
{
    const int MostAtOnce = 1024, LookEvery = 64;

    readonly Queue<UserState> queue = new(); // those who may have to go: all in memory except the connected
    int batches;
    long shedAt = mostLoose;

    /// <summary>A user came into memory, or is no longer connected.</summary>
    public void Add(UserState user)
    {
        if (user.IsQueued) return;
        user.IsQueued = true;
        queue.Enqueue(user);
    }

    /// <summary>Candidates to drop, among them some that are connected.</summary>
    public int Idle => queue.Count;

    /// <summary>Drops what is above the bound.</summary>
    public void Trim(IReadOnlyCollection<SpaceState> spaces)
    {
        for (int i = 0; queue.Count > mostIdle && i < MostAtOnce; i++)
        {
            var user = queue.Dequeue();
            user.IsQueued = false;
            if (user.Sessions.Count > 0) continue; // comes again when it is no longer connected
            if (user.WasUsed)
            {
                user.WasUsed = false;
                Add(user);
            }
            else user.Home.Drop(user);
        }
        if (++batches % LookEvery != 0) return;
        long loose = 0;
        foreach (var space in spaces)
        {
            loose += space.Loose;
            space.Compact();
        }
        if (loose <= shedAt) return;
        loose = 0;
        foreach (var space in spaces)
        {
            space.Shed();
            loose += space.Loose;
        }
        shedAt = Math.Max(mostLoose, 2 * loose); // what stays is needed: looking at it each time would be in vain
    }
}
