using System.Globalization;
using Cronos;
using Rovett.Core.Rules;

namespace Rovett.Service.Intakes.Schedules;

/// <summary>Events at a time, or at the times of a cron expression.</summary>
public sealed record ScheduleKind : IIntakeKind
{
    /// <summary>The only time, where there is one.</summary>
    public DateTimeOffset? At { get; init; }
    /// <summary>The times, as a cron expression with five fields, or six that begin with seconds.</summary>
    public CronExpression? Cron { get; init; }
    /// <summary>The zone of the expression's times.</summary>
    public required TimeZoneInfo Zone { get; init; }
    /// <summary>Whether one event makes up for times that passed while the service did not run, or while the intake was paused.</summary>
    public bool MakesUp { get; init; } = true;
    /// <summary>The event.</summary>
    public required EventShape Event { get; init; }
    /// <summary>The schedule as written.</summary>
    public required string Text { get; init; }

    /// <inheritdoc/>
    public string Word => "schedule";

    /// <inheritdoc/>
    public string From => $"{Text}, {Zone.Id}";

    /// <inheritdoc/>
    public bool NeedsRepeats => false;

    /// <inheritdoc/>
    public IIntakeSource Open(Inlet inlet) => new ScheduleSource(this, inlet);

    /// <summary>The first time after another; null: there is none any more.</summary>
    /// <remarks>A local time that a change of the clocks skips is the first one after the gap; one that comes twice counts once, the first
    /// time.</remarks>
    public DateTimeOffset? After(DateTimeOffset time)
    {
        if (At is { } at) return at > time ? at : null;
        return Cron!.GetNextOccurrence(time.ToUniversalTime(), Zone)?.ToUniversalTime();
    }

    /// <summary>Reads its settings.</summary>
    public static ScheduleKind? Read(IntakeFields fields)
    {
        int before = fields.Mistakes;
        var zone = fields.Zone("zone") ?? TimeZoneInfo.Utc;
        bool isOne = fields.Has("at");
        if (isOne == fields.Has("cron")) fields.Wrong(null, "needs either 'cron' (times that come again) or 'at' (one time)");
        DateTimeOffset? at = null;
        CronExpression? cron = null;
        var text = "";
        if (isOne)
        {
            text = fields.Text("at");
            if (DateTimeOffset.TryParse(text, CultureInfo.InvariantCulture, DateTimeStyles.AssumeUniversal, out var time)
                && text.Contains('T', StringComparison.Ordinal)) at = time.ToUniversalTime();
            else fields.Wrong("at", "must be a time (RFC 3339), such as 2027-06-14T06:00:00Z");
        }
        else if (fields.Has("cron"))
        {
            text = fields.Text("cron");
            cron = Parse(text, fields);
        }
        bool makesUp = fields.OneOf("missed", "once", "once", "skip") == "once";
        var shape = fields.Shape("event", ["now"], hasData: false);
        if (!fields.Has("event")) fields.Wrong(null, "needs 'event': its type, source and data");
        if (fields.Mistakes > before || shape is null) return null;
        return new ScheduleKind { At = at, Cron = cron, Zone = zone, MakesUp = makesUp, Event = shape, Text = text };
    }

    static CronExpression? Parse(string text, IntakeFields fields)
    {
        int parts = text.Split(' ', StringSplitOptions.RemoveEmptyEntries).Length;
        try
        {
            var cron = CronExpression.Parse(text, parts == 6 ? CronFormat.IncludeSeconds : CronFormat.Standard);
            if (cron.GetNextOccurrence(DateTimeOffset.UtcNow, TimeZoneInfo.Utc) is not null) return cron;
            fields.Wrong("cron", $"'{text}' never comes");
        }
        catch (CronFormatException)
        {
            fields.Wrong("cron", $"'{text}' is no cron expression; it has minute, hour, day, month and weekday, such as '0 6 * * *'");
        }
        return null;
    }
}
