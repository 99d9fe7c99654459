using System.Text.Json;
using Rovett.Core.Ledgers;
using Rovett.Core.Ledgers.Commands.Life;
using Rovett.Service.Audit;
using Rovett.Service.Credentials;
using Rovett.Service.Http;
using Rovett.Service.Ledgers;

namespace Rovett.Service.Endpoints.Admin;

/// <summary>What the service believes of the time, and an operator's word that the system's clock is right.</summary>
public sealed class ClockApi(LedgerPump ledger, ServiceClock clock, Housekeeping housekeeping,
    AuditTrail audit)
{
    /// <summary><c>GET /v1/clock</c></summary>
    public Task Show(HttpContext context)
    {
        return Answer(context);
    }

    /// <summary><c>POST /v1/clock/confirm</c>: the system's clock is right. A step is believed, and retention follows
    /// it, at once.</summary>
    public async Task Confirm(HttpContext context)
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
        await Answer(context);
    }

    Task Answer(HttpContext context) => Json.Write(context, 200, json =>
    {
        json.WriteStartObject();
        Write(json, clock);
        json.WriteEndObject();
    });

    /// <summary>Writes the member <c>clock</c>.</summary>
    public static void Write(Utf8JsonWriter json, ServiceClock clock)
    {
        json.WriteStartObject("clock");
        json.WriteString("time", StoredTime.From(clock.GetUtcNow()).ToString());
        if (clock.Step is { } step)
        {
            json.WriteStartObject("step");
            json.WriteNumber("bySeconds", Math.Round(step.By.TotalSeconds, 3));
            json.WriteNumber("forSeconds", Math.Round(step.For.TotalSeconds, 3));
            json.WriteNumber("believedAfterSeconds", ServiceClock.ConfirmAfter.TotalSeconds);
            json.WriteEndObject();
        }
        json.WriteNumber("retentionHeldBackSeconds", Math.Round(clock.RetentionHeldBack.TotalSeconds, 3));
        json.WriteEndObject();
    }
}
