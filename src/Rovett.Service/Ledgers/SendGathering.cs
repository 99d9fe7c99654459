namespace Rovett.Service.Ledgers;

/// <summary>Under load, lets sends to many sessions go into one commit, so that they leave in one write of each session.
/// What arrives first after such a commit is often the first of as many again: committed alone, it would cost every
/// session a write of its own. And as long as writers have not even begun with what they were woken for, nothing leaves
/// sooner by being committed now. Never waits after a single send, after a pause, or when few sessions are concerned.</summary>
/// <param name="clock">Tells the time.</param>
/// <param name="writersFree">Called when so many writers have begun that what waited for them need not wait longer.</param>
sealed class SendGathering(TimeProvider clock, Action writersFree)
{
    const int ManyOffered = 4000, BusyWriters = 64, LongestWaitMs = 20;

    int waking;
    long lastOffered, lastCommit;

    /// <summary>How many sends are likely to come together.</summary>
    public int Expected { get; private set; }

    /// <summary>A session's writer was woken, and has not begun to write yet.</summary>
    public void WriterWoken() => Interlocked.Increment(ref waking);

    /// <summary>It has begun.</summary>
    public void WriterBegun()
    {
        if (Interlocked.Decrement(ref waking) == BusyWriters) writersFree();
    }

    /// <summary>A commit is over.</summary>
    /// <param name="sends">How many sends it had.</param>
    /// <param name="offered">How many times one of them was offered to somebody.</param>
    public void Committed(int sends, long offered)
    {
        if (sends == 0) return; // acknowledgements and the like: what was expected before still is
        (Expected, lastOffered, lastCommit) = (offered >= ManyOffered ? sends : 0, offered, clock.GetTimestamp());
    }

    /// <summary>How long to wait for more, when more is likely: at most about as long as writing the last commit takes.</summary>
    /// <param name="sends">How many sends there are.</param>
    /// <param name="waited">How long the first of them has waited.</param>
    /// <returns>Milliseconds; 0: they go now.</returns>
    public int WaitFor(int sends, TimeSpan waited)
    {
        // Writing one takes 1 to 3 microseconds.
        long limit = Math.Min(LongestWaitMs, lastOffered / 1000);
        if (Expected < 2 || clock.GetElapsedTime(lastCommit).TotalMilliseconds > 4 * limit) return 0;
        if (sends >= Expected && Volatile.Read(ref waking) <= BusyWriters) return 0;
        return (int)Math.Max(0, limit - (long)waited.TotalMilliseconds);
    }
}
