using System.Globalization;
using System.Text;
using Rovett.Core.Rules;
using Rovett.Service.Events;

namespace Rovett.Service.Intakes.Schedules;

/// <summary>Hands over an event when its time has come, never before. Which times are done is in the commit of their events.</summary>
sealed class ScheduleSource(ScheduleKind kind, Inlet inlet) : IIntakeSource
{
    static readonly TimeSpan LongestWait = TimeSpan.FromSeconds(1), Late = TimeSpan.FromMinutes(1);

    public async Task Run(CancellationToken drain)
    {
        var done = await Done();
        inlet.Progress.Is(IntakeState.Running);
        while (kind.After(done) is { } next)
        {
            if (!await Reach(next, drain)) return;
            // What is overdue by more than a moment was missed: one event stands for all of it, or none.
            var newest = Newest(next);
            if (Now - newest <= Late || kind.MakesUp) await inlet.Take([Item(newest)]);
            else await inlet.Remember(Written(newest));
            done = newest;
        }
    }

    /// <summary>The newest time that is done. The first time ever a schedule begins now; a single time that has passed is missed.</summary>
    async Task<DateTimeOffset> Done()
    {
        if ((await inlet.Places()).TryGetValue("", out var stored))
        {
            return DateTimeOffset.Parse(stored, CultureInfo.InvariantCulture, DateTimeStyles.AdjustToUniversal);
        }
        var begin = kind.At is not null ? DateTimeOffset.UnixEpoch : Now;
        await inlet.Remember(Written(begin));
        return begin;
    }

    static string Written(DateTimeOffset time) => time.UtcDateTime.ToString("yyyy-MM-dd'T'HH:mm:ss'Z'", CultureInfo.InvariantCulture);

    DateTimeOffset Now => inlet.Clock.GetUtcNow();

    /// <summary>The newest time that has come. It is looked for from the end, in spans that double.</summary>
    DateTimeOffset Newest(DateTimeOffset first)
    {
        var now = Now;
        var newest = first;
        for (var back = Late; now - back > first; back *= 2)
        {
            if (kind.After(now - back) is not { } found || found > now) continue;
            newest = found;
            break;
        }
        while (kind.After(newest) is { } further && further <= now) newest = further;
        return newest;
    }

    /// <summary>Waits until a time has come. Long waits are taken in steps: the clock may be set meanwhile.</summary>
    async Task<bool> Reach(DateTimeOffset time, CancellationToken drain)
    {
        while (time - Now is var left && left > TimeSpan.Zero)
        {
            try
            {
                await Task.Delay(left < LongestWait ? left + TimeSpan.FromMilliseconds(1) : LongestWait, inlet.Clock, drain);
            }
            catch (OperationCanceledException)
            {
                return false;
            }
        }
        return !drain.IsCancellationRequested;
    }

    SourceItem Item(DateTimeOffset due)
    {
        var instant = Written(due);
        var item = new SourceItem(new RawEvent(ReadOnlyMemory<byte>.Empty))
        { Origin = instant, Place = () => instant, Since = due };
        try
        {
            var made = kind.Event.Make(new Dictionary<string, string> { ["now"] = instant }, null, $"{inlet.Settings.Name} {instant}", due,
                kind.Zone);
            return item with { Raw = new RawEvent(made) };
        }
        catch (RuleFailure failure)
        {
            return item with { Raw = new RawEvent(Encoding.UTF8.GetBytes(instant)), Why = failure.Message };
        }
    }

    public Task<IReadOnlyList<string>> Test(CancellationToken stop)
    {
        var times = new List<string>();
        var at = Now;
        while (times.Count < 3 && kind.After(at) is { } next)
        {
            times.Add(TimeZoneInfo.ConvertTime(next, kind.Zone).ToString("ddd d MMM yyyy HH:mm:ss zzz", CultureInfo.InvariantCulture));
            at = next;
        }
        return Task.FromResult<IReadOnlyList<string>>(
            times.Count == 0 ? ["its time is over"] : [$"the next times: {string.Join("; ", times)}"]);
    }

    public bool IsFailure(Exception error) => false;

    public ValueTask DisposeAsync() => default;
}
