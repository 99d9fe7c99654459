namespace Rovett.Service.Intakes;

/// <summary>The state of an intake, and its counts since the service started. Safe to use from any thread.</summary>
public sealed class IntakeProgress(TimeProvider clock)
{
    const int RateSeconds = 10;

    readonly Lock gate = new();
    readonly long[] perSecond = new long[RateSeconds + 1];
    long second;
    IntakeReading now = new(IntakeState.Starting, clock.GetUtcNow());

    /// <summary>The present values.</summary>
    public IntakeReading Read()
    {
        lock (gate)
        {
            Turn();
            long sum = 0;
            for (int i = 1; i <= RateSeconds; i++) sum += perSecond[(second - i + perSecond.Length) % perSecond.Length];
            return now with { PerSecond = (double)sum / RateSeconds };
        }
    }

    /// <summary>The state changed.</summary>
    /// <param name="state">The new state.</param>
    /// <param name="reason">Why it waits.</param>
    public void Is(IntakeState state, string? reason = null)
    {
        lock (gate)
        {
            if (now.State == state && now.Reason == reason) return;
            now = now with { State = state, Reason = reason, Since = now.State == state ? now.Since : clock.GetUtcNow() };
        }
    }

    /// <summary>The source said how many events wait there.</summary>
    /// <param name="behind">How many; null: unknown.</param>
    public void HasBehind(long? behind)
    {
        lock (gate) now = now with { Behind = behind };
    }

    /// <summary>Events were removed from the source before they could be read.</summary>
    public void HasLost(string what)
    {
        lock (gate) now = now with { Lost = what };
    }

    /// <summary>Everything the source delivered was taken, and the source knows.</summary>
    public void HasTold()
    {
        lock (gate) now = now with { LastTold = clock.GetUtcNow() };
    }

    /// <summary>Lines were dropped that nobody can send again.</summary>
    public void Dropped(long count)
    {
        lock (gate) now = now with { Dropped = now.Dropped + count };
    }

    /// <summary>A part of a batch is on disk.</summary>
    internal void Took(int events, int repeated, int unmatched, int notifications, int setAside, string? lastReason, DateTimeOffset? oldest)
    {
        lock (gate)
        {
            Turn();
            perSecond[second % perSecond.Length] += events;
            var at = clock.GetUtcNow();
            now = now with
            {
                Events = now.Events + events,
                Repeated = now.Repeated + repeated,
                Unmatched = now.Unmatched + unmatched,
                Notifications = now.Notifications + notifications,
                SetAside = now.SetAside + setAside,
                LastTaken = at,
                LastReason = lastReason ?? now.LastReason,
                Lag = oldest is { } since ? at > since ? at - since : TimeSpan.Zero : now.Lag,
            };
        }
    }

    void Turn()
    {
        long to = clock.GetTimestamp() / clock.TimestampFrequency;
        if (to - second > perSecond.Length) Array.Clear(perSecond);
        else
        {
            while (second < to) perSecond[++second % perSecond.Length] = 0;
        }
        second = to;
    }
}

/// <summary>The state of an intake at one moment; counts are since the service started.</summary>
/// <param name="State">Its state.</param>
/// <param name="Since">Since when.</param>
public sealed record IntakeReading(IntakeState State, DateTimeOffset Since)
{
    /// <summary>Why it is waiting, or null.</summary>
    public string? Reason { get; init; }
    /// <summary>Events taken, repeats included.</summary>
    public long Events { get; init; }
    /// <summary>Those of them that had been taken before.</summary>
    public long Repeated { get; init; }
    /// <summary>Those of them that no rule matched.</summary>
    public long Unmatched { get; init; }
    /// <summary>Notifications made of them.</summary>
    public long Notifications { get; init; }
    /// <summary>What was set aside.</summary>
    public long SetAside { get; init; }
    /// <summary>Lines dropped that nobody can send again.</summary>
    public long Dropped { get; init; }
    /// <summary>Why an event was last set aside, or null.</summary>
    public string? LastReason { get; init; }
    /// <summary>When an event was last taken.</summary>
    public DateTimeOffset? LastTaken { get; init; }
    /// <summary>When the source last knew that everything it delivered was taken.</summary>
    public DateTimeOffset? LastTold { get; init; }
    /// <summary>How long the oldest event of the last batch had waited at the source; null: unknown.</summary>
    public TimeSpan? Lag { get; init; }
    /// <summary>How many events wait at the source; null: unknown.</summary>
    public long? Behind { get; init; }
    /// <summary>What was removed from the source before it could be read; null: nothing.</summary>
    public string? Lost { get; init; }
    /// <summary>Events a second, over the last ten.</summary>
    public double PerSecond { get; init; }
}
