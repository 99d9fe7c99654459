using Rovett.Core.Ledgers;
using Rovett.Core.Ledgers.Commands.Life;
using Rovett.Service.Audit;
using Rovett.Service.Credentials;
using Rovett.Service.Endpoints.Backend;
using Rovett.Service.Ledgers;

namespace Rovett.Service.Endpoints.Admin;

/// <summary>The service's clock.</summary>
public sealed record ClockAnswer
{
    /// <summary>The reading.</summary>
    public required ClockReading Clock { get; init; }
}

/// <summary>The service's clock, and its confirmation by an operator.</summary>
public sealed class ClockApi(LedgerPump ledger, ServiceClock clock, Housekeeping housekeeping, AuditTrail audit)
{
    /// <summary>Shows what the service believes of the time.</summary>
    public Task<ClockAnswer> ShowClock(HttpContext context) => Task.FromResult(Answer());

    /// <summary>Confirms that the system's clock is right.</summary>
    /// <remarks>A step of it is believed, and retention follows it, at once.</remarks>
    public async Task<ClockAnswer> ConfirmClock(HttpContext context)
    {
        var key = context.KeyCaller().Key;
        var (step, held) = (clock.Step, clock.RetentionHeldBack);
        if (step is { } lasting) await housekeeping.Believe(lasting);
        await ledger.Ask(new ConfirmRetentionCommand());
        clock.ConfirmRetention();
        audit.Note("main", key.Actor, "clock.confirmed", "clock", json =>
        {
            if (step is { } by) json.WriteNumber("stepSeconds", Math.Round(by.By.TotalSeconds, 3));
            json.WriteNumber("retentionHeldBackSeconds", Math.Round(held.TotalSeconds, 3));
        });
        return Answer();
    }

    ClockAnswer Answer() => new() { Clock = ClockReadings.Of(clock) };
}
