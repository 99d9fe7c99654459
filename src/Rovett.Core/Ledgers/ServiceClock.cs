using Rovett.Core.Store;

namespace Rovett.Core.Ledgers;

/// <summary>Tells elapsed time that goes on while the machine is suspended, and from one process to the next.</summary>
public interface IElapsedTime
{
    /// <summary>Which stretch of elapsed time this is: the machine's boot.</summary>
    string Boot { get; }

    /// <summary>Time since that began; never goes back.</summary>
    TimeSpan Elapsed { get; }
}

/// <summary>The service's clock. It keeps three times apart, because the system's clock may be wrong, and may be set:
/// the <b>believed</b> time (<see cref="GetUtcNow"/>) follows the system's clock, but a step of more than <see cref="Tolerance"/>
/// only once it has lasted for <see cref="ConfirmAfter"/>, or an operator says so; the <b>due</b> time (<see cref="Due"/>)
/// goes on by elapsed time and never steps, so that nothing becomes due early or late; <b>retention's</b> time
/// (<see cref="Retention"/>) does not follow a step ahead before <see cref="RetentionConfirmAfter"/>, because what is trimmed
/// is gone. Safe to call from any thread.</summary>
public sealed class ServiceClock : TimeProvider
{
    /// <summary>A difference that is followed at once: the clock is being adjusted.</summary>
    public static readonly TimeSpan Tolerance = TimeSpan.FromSeconds(2);
    /// <summary>How long a step must last to be believed.</summary>
    public static readonly TimeSpan ConfirmAfter = TimeSpan.FromMinutes(5);
    /// <summary>How long a step ahead must be believed until retention follows it.</summary>
    public static readonly TimeSpan RetentionConfirmAfter = TimeSpan.FromHours(24);

    const long AnchorAgainMicros = 50_000;
    static readonly long ToleranceMicros = (long)Tolerance.TotalMicroseconds, ConfirmMicros = (long)ConfirmAfter.TotalMicroseconds,
        RetentionMicros = (long)RetentionConfirmAfter.TotalMicroseconds;

    /// <summary>One stretch in which the believed time goes on by elapsed time. In microseconds.</summary>
    sealed record Stretch(long Believed, long Elapsed, long Shift, long HeldBack, long HeldSince, long Began);

    readonly TimeProvider system;
    readonly IElapsedTime? elapsed;
    readonly long started;
    readonly Lock gate = new();
    volatile Stretch stretch;
    (long By, long Since)? step; // guarded by gate

    /// <summary>Starts with the system's time.</summary>
    /// <param name="system">The system's clock; one that is an <see cref="IElapsedTime"/> is asked for elapsed time, too.</param>
    /// <param name="stored">The state stored by the last run; null: this is the first.</param>
    /// <param name="plausibleAbsence">For how long the service may have been stopped without retention waiting for a
    /// confirmation; null: any time.</param>
    public ServiceClock(TimeProvider system, ClockRow? stored = null, TimeSpan? plausibleAbsence = null)
    {
        (this.system, elapsed) = (system, system as IElapsedTime);
        started = system.GetTimestamp();
        stretch = new Stretch(Wall(), Elapsed(), 0, 0, 0, 0);
        Restore(stored ?? default, plausibleAbsence);
    }

    /// <summary>Resumes from the state stored by the last run. For the start only.</summary>
    public void Restore(ClockRow stored, TimeSpan? plausibleAbsence)
    {
        if (stored.SeenTime > 0 && elapsed is not null && stored.Boot == elapsed.Boot)
        {
            // The machine has not been started anew: how long the service was away is measured, whatever the clock says.
            long passed = Elapsed(), away = passed - stored.SeenElapsed;
            lock (gate)
            {
                stretch = new Stretch(stored.SeenTime + away, passed, stored.Shift, stored.HeldBack, stored.HeldSince,
                    stored.SeenTime + away);
                step = null;
            }
            return;
        }
        RestoreAfterBoot(stored, plausibleAbsence);
    }

    void RestoreAfterBoot(ClockRow stored, TimeSpan? plausibleAbsence)
    {
        long wall = Wall(), due = Math.Max(wall - stored.Shift, stored.SeenDue), held = 0;
        WentBackWhileAway = stored.SeenTime - wall > ToleranceMicros;
        if (stored.SeenTime > 0)
        {
            long away = wall - stored.SeenTime;
            held = Math.Max(0, stored.HeldBack + Math.Min(away, 0));
            if (plausibleAbsence is { } plausible && away > (long)plausible.TotalMicroseconds) held += away;
        }
        long since = held == 0 ? 0 : held > stored.HeldBack ? due : stored.HeldSince;
        lock (gate)
        {
            stretch = new Stretch(wall, Elapsed(), Snap(wall - due), held, since, wall);
            step = null;
        }
    }

    static long Snap(long shift) => Math.Abs(shift) <= ToleranceMicros ? 0 : shift;

    long Wall() => StoredTime.From(system.GetUtcNow()).Micros;

    long Elapsed() => (long)(elapsed?.Elapsed ?? system.GetElapsedTime(started)).TotalMicroseconds;

    /// <summary>At the start the system's clock was behind what it had been when the service ran last: it was wrong
    /// then, or is now.</summary>
    public bool WentBackWhileAway { get; private set; }

    /// <summary>Puts what was noted by a clock that was ahead, and is compared with tokens' times, to now: or who was
    /// signed out then could not sign
    /// in until that time comes. For the start, before anything else is asked of the store.</summary>
    public void SettleStanding(ILedgerStore store)
    {
        if (!WentBackWhileAway) return;
        store.Begin();
        store.CapStanding(StoredTime.From(GetUtcNow()).Micros, ToleranceMicros);
        store.Commit();
    }

    /// <summary>The believed time.</summary>
    public override DateTimeOffset GetUtcNow()
    {
        var now = stretch;
        var said = system.GetUtcNow();
        long passed = Elapsed(), steady = now.Believed + passed - now.Elapsed, off = StoredTime.From(said).Micros - steady;
        if (Math.Abs(off) <= ToleranceMicros)
        {
            if (Math.Abs(off) > AnchorAgainMicros || Volatile.Read(ref stepped)) Follow();
            return said;
        }
        Note(off, passed);
        return DateTimeOffset.UnixEpoch.AddTicks(steady * 10);
    }

    bool stepped; // there is a step; for a look without the gate

    void Follow()
    {
        lock (gate)
        {
            long wall = Wall(), passed = Elapsed();
            if (Math.Abs(wall - (stretch.Believed + passed - stretch.Elapsed)) > ToleranceMicros) return;
            stretch = stretch with { Believed = wall, Elapsed = passed };
            step = null;
            Volatile.Write(ref stepped, false);
        }
    }

    void Note(long off, long passed)
    {
        lock (gate)
        {
            if (step is { } known && Math.Abs(known.By - off) <= ToleranceMicros) return;
            step = (off, passed);
            Volatile.Write(ref stepped, true);
        }
    }

    /// <summary>The due time: what is due is noted and judged by it.</summary>
    public StoredTime Due => new(StoredTime.From(GetUtcNow()).Micros - stretch.Shift);

    /// <summary>Retention's time.</summary>
    public StoredTime Retention
    {
        get
        {
            long now = StoredTime.From(GetUtcNow()).Micros;
            var s = stretch;
            return new StoredTime(s.HeldBack > 0 && now - s.Shift - s.HeldSince < RetentionMicros ? now - s.HeldBack : now);
        }
    }

    /// <summary>By how much retention's time is held back until a step ahead is confirmed.</summary>
    public TimeSpan RetentionHeldBack =>
        TimeSpan.FromMicroseconds(StoredTime.From(GetUtcNow()).Micros - Retention.Micros is var held and > 0 ? held : 0);

    /// <summary>A due time as believed time, to be shown.</summary>
    public StoredTime Shown(StoredTime due) => new(due.Micros + stretch.Shift);

    /// <summary>A believed time as due time.</summary>
    public StoredTime DueAt(StoredTime time) => new(time.Micros - stretch.Shift);

    /// <summary>The step of the system's clock that is not believed yet, or null.</summary>
    public ClockStep? Step
    {
        get
        {
            GetUtcNow();
            lock (gate)
            {
                return step is var (by, since) ? new ClockStep(TimeSpan.FromMicroseconds(by), TimeSpan.FromMicroseconds(Elapsed() - since))
                    : null;
            }
        }
    }

    /// <summary>Whether a step has lasted long enough to be believed.</summary>
    public bool StepHasLasted => Step is { } s && s.For.TotalMicroseconds >= ConfirmMicros;

    /// <summary>When the believed time last began anew: at the start, or when a step was believed.</summary>
    public StoredTime Began => new(stretch.Began);

    /// <summary>The state to store now.</summary>
    public ClockRow ToRow()
    {
        long now = StoredTime.From(GetUtcNow()).Micros;
        var s = stretch;
        return new ClockRow(s.Shift, s.HeldBack, s.HeldSince, now, now - s.Shift, elapsed?.Boot ?? "", Elapsed());
    }

    /// <summary>The state to store when a step is accepted, before <see cref="Believe"/>.</summary>
    public ClockRow RowAfter(ClockStep believed)
    {
        var row = ToRow();
        long by = (long)believed.By.TotalMicroseconds, held = Math.Max(0, row.HeldBack + by);
        return row with
        {
            Shift = Snap(row.Shift + by),
            HeldBack = held,
            HeldSince = held == 0 ? 0 : by > 0 ? row.SeenDue : row.HeldSince,
            SeenTime = row.SeenTime + by
        };
    }

    /// <summary>Believes a step from now on.</summary>
    public void Believe(ClockStep believed)
    {
        var row = RowAfter(believed);
        lock (gate)
        {
            stretch = new Stretch(row.SeenTime, Elapsed(), row.Shift, row.HeldBack, row.HeldSince, row.SeenTime);
            step = null;
            Volatile.Write(ref stepped, false);
        }
    }

    /// <summary>An operator confirms the time: retention follows it.</summary>
    public void ConfirmRetention()
    {
        lock (gate) stretch = stretch with { HeldBack = 0, HeldSince = 0 };
    }

    /// <inheritdoc/>
    public override long GetTimestamp() => system.GetTimestamp();
    /// <inheritdoc/>
    public override long TimestampFrequency => system.TimestampFrequency;
    /// <inheritdoc/>
    public override TimeZoneInfo LocalTimeZone => system.LocalTimeZone;
    /// <inheritdoc/>
    public override ITimer CreateTimer(TimerCallback callback, object? state, TimeSpan dueTime, TimeSpan period) =>
        system.CreateTimer(callback, state, dueTime, period);
}
