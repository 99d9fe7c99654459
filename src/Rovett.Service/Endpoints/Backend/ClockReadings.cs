using Rovett.Core.Ledgers;

namespace Rovett.Service.Endpoints.Backend;

/// <summary>Reads what the service believes of the time.</summary>
static class ClockReadings
{
    /// <summary>The reading now.</summary>
    public static ClockReading Of(ServiceClock clock) => new()
    {
        Time = StoredTime.From(clock.GetUtcNow()),
        Step = clock.Step is not { } step ? null : new ClockStepAnswer
        {
            BySeconds = Math.Round(step.By.TotalSeconds, 3),
            ForSeconds = Math.Round(step.For.TotalSeconds, 3),
            BelievedAfterSeconds = ServiceClock.ConfirmAfter.TotalSeconds,
        },
        RetentionHeldBackSeconds = Math.Round(clock.RetentionHeldBack.TotalSeconds, 3),
    };
}
