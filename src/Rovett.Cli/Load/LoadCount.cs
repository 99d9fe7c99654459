using System.Collections.Concurrent;
using System.Diagnostics;
using HdrHistogram;

namespace Rovett.Cli.Load;

/// <summary>One second of a load test.</summary>
sealed class LoadSecond
{
    public int Sent, Received;
    public readonly LongConcurrentHistogram Answer = LoadCount.Histogram(), Delivery = LoadCount.Histogram();
}

/// <summary>Counts what a load test sends and receives. Safe to call from any thread.</summary>
/// <param name="plan">The plan.</param>
sealed class LoadCount(LoadPlan plan)
{
    const long Longest = 600_000_000; // microseconds

    readonly int[] received = new int[((int)plan.For.TotalSeconds + 1) * plan.SendsPerSecond];
    readonly int[] expected = new int[((int)plan.For.TotalSeconds + 1) * plan.SendsPerSecond]; // 0: not sent, or not answered
    readonly LoadSecond[] seconds = [.. Enumerable.Range(0, (int)plan.For.TotalSeconds + 60).Select(_ => new LoadSecond())];
    long last;

    public static LongConcurrentHistogram Histogram() => new(1, Longest, 2);

    /// <summary>When it began, by <see cref="Stopwatch"/>.</summary>
    public long Began { get; set; }

    /// <summary>Microseconds from a send to its answer, and from a send to a device.</summary>
    public LongConcurrentHistogram Answer { get; } = Histogram();

    public LongConcurrentHistogram Delivery { get; } = Histogram();

    /// <summary>Milliseconds that a session took to be connected and to have what it missed.</summary>
    public LongConcurrentHistogram Connect { get; } = Histogram();

    /// <summary>Refusals and failures of sends, by their kind.</summary>
    public ConcurrentDictionary<string, int> Refused { get; } = new();

    public int Sent;

    public IReadOnlyList<LoadSecond> Seconds => seconds;

    /// <summary>How many sends there may be.</summary>
    public int Most => received.Length;

    LoadSecond At(long time) => seconds[Math.Clamp((int)Stopwatch.GetElapsedTime(Began, time).TotalSeconds, 0, seconds.Length - 1)];

    static long Micros(long from, long to) => Math.Max(1, (long)Stopwatch.GetElapsedTime(from, to).TotalMicroseconds);

    public void Answered(int number, int group, long sentAt)
    {
        long now = Stopwatch.GetTimestamp();
        Volatile.Write(ref expected[number], plan.SizeOf(group));
        Interlocked.Increment(ref Sent);
        Answer.RecordValue(Micros(sentAt, now));
        var second = At(now);
        Interlocked.Increment(ref second.Sent);
        second.Answer.RecordValue(Micros(sentAt, now));
    }

    public void Delivered(int number, long sentAt)
    {
        long now = Stopwatch.GetTimestamp();
        Interlocked.Increment(ref received[number]);
        Interlocked.Exchange(ref last, now);
        Delivery.RecordValue(Micros(sentAt, now));
        var second = At(now);
        Interlocked.Increment(ref second.Received);
        second.Delivery.RecordValue(Micros(sentAt, now));
    }

    /// <summary>When the last notification came.</summary>
    public long LastDelivery => Interlocked.Read(ref last);

    /// <summary>What answered sends should have brought, and how much of it is missing or came twice.</summary>
    public (long Expected, long Missing, long Twice) Judge()
    {
        long all = 0, missing = 0, twice = 0;
        for (int i = 0; i < received.Length; i++)
        {
            int should = Volatile.Read(ref expected[i]), has = Volatile.Read(ref received[i]);
            if (should == 0) continue;
            all += should;
            missing += Math.Max(0, should - has);
            twice += Math.Max(0, has - should);
        }
        return (all, missing, twice);
    }
}
