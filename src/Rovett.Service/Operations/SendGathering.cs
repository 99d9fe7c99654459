namespace Rovett.Service.Operations;

/// <summary>Under load, lets sends to many sessions go into one commit, so that they leave in one write of each session.
/// What arrives first after such a commit is often the first of as many again: committed alone, it would cost every
/// session a write of its own. And as long as writers have not even begun with what they were woken for, nothing leaves
/// sooner by being committed now. Never waits after a single send, after a pause, or when few sessions are concerned.</summary>
sealed class SendGathering
{
    const int ManyOffered = 4000, BusyWriters = 64, LongestWaitMs = 20;

    int asked, waking, expected;
    long lastOffered, lastCommit;

    /// <summary>How many sends wait for their commit.</summary>
    public int Waiting => Volatile.Read(ref asked);

    /// <summary>A send was asked for.</summary>
    public void Asked() => Interlocked.Increment(ref asked);

    /// <summary>Sends were taken into a commit.</summary>
    public void Taken(int sends) => Interlocked.Add(ref asked, -sends);

    /// <summary>A session's writer was woken, and has not begun to write yet.</summary>
    public void WriterWoken() => Interlocked.Increment(ref waking);

    /// <summary>It has begun.</summary>
    public void WriterBegun() => Interlocked.Decrement(ref waking);

    /// <summary>A commit is over.</summary>
    /// <param name="sends">How many sends it had.</param>
    /// <param name="offered">How many times one of them was offered to somebody.</param>
    public void Committed(int sends, long offered)
    {
        if (sends == 0) return; // acknowledgements and the like: what was expected before still is
        (expected, lastOffered, lastCommit) = (offered >= ManyOffered ? sends : 0, offered, Environment.TickCount64);
    }

    /// <summary>Waits for more, when more is likely: at most about as long as writing the last commit takes.</summary>
    public void Wait()
    {
        // Writing one takes 1 to 3 microseconds.
        long limit = Math.Min(LongestWaitMs, lastOffered / 1000);
        if (expected < 2 || Environment.TickCount64 - lastCommit > 4 * limit) return;
        for (long waited = 0; waited < limit && (Volatile.Read(ref asked) < expected || Volatile.Read(ref waking) > BusyWriters); waited++) Thread.Sleep(1);
    }
}
