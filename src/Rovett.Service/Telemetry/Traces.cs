using System.Diagnostics;
using Rovett.Core.Ledgers;
using Rovett.Core.Wire;
using Rovett.Service.Diagnostics;
using Rovett.Service.Meters;

namespace Rovett.Service.Telemetry;

/// <summary>The spans of the service, within the trace of the request that sent something: the commit that stored it, its way to each
/// device, and the device's receipt. Without somebody who traces, each is one look at a field.</summary>
static class Traces
{
    /// <summary>The name of the source.</summary>
    public const string Name = "Rovett";

    static readonly ActivitySource source = new(Name, ServiceInfo.Version);

    /// <summary>Somebody traces.</summary>
    public static bool AreWanted => source.HasListeners();

    /// <summary>Where the caller is in a trace that is recorded; null: in none.</summary>
    public static ActivityContext? Here => source.HasListeners() && Activity.Current is { Recorded: true } now ? now.Context : null;

    /// <summary>A batch was carried out.</summary>
    /// <param name="batch">Its commands.</param>
    /// <param name="began">When it began, as a timestamp.</param>
    public static void CarriedOut(IReadOnlyList<LedgerCommand> batch, long began)
    {
        if (!source.HasListeners()) return;
        var now = DateTimeOffset.UtcNow;
        foreach (var command in batch)
        {
            if (command.Trace is not { } parent) continue;
            using var span = source.CreateActivity("store", ActivityKind.Internal, parent);
            if (span is null) continue;
            span.SetStartTime((now - Stopwatch.GetElapsedTime(began)).UtcDateTime);
            span.SetTag(ServiceMeters.Space, command.Space).SetTag("rovett.batch.size", batch.Count)
                .SetTag("rovett.batch.wait", command.AskedAt == 0 ? 0 : Stopwatch.GetElapsedTime(command.AskedAt, began).TotalSeconds);
            span.Start();
            span.SetEndTime(now.UtcDateTime);
        }
    }

    /// <summary>A session's connection took a notification.</summary>
    /// <returns>Where in the trace that is; null: it is not shown.</returns>
    public static ActivityContext? Dispatched(TracedDispatch one, string space, string transport, DateTimeOffset now)
    {
        if (!one.Trace.TakeOne()) return null;
        using var span = source.StartActivity("dispatch", ActivityKind.Producer, one.Trace.Context,
            startTime: new DateTimeOffset(one.Entry.Time.ToDateTime()));
        if (span is null) return null;
        span.SetTag(ServiceMeters.Space, space).SetTag(ServiceMeters.Transport, transport).SetTag("messaging.message.id",
            one.Entry.Id.ToString());
        span.SetEndTime(now.UtcDateTime);
        return span.Context;
    }

    /// <summary>A device has acknowledged what it was sent.</summary>
    /// <param name="dispatch">Where it was sent.</param>
    /// <param name="space">The space.</param>
    /// <param name="sent">When it was sent.</param>
    public static void Received(ActivityContext dispatch, string space, DateTimeOffset sent)
    {
        using var span = source.StartActivity("receive", ActivityKind.Consumer, dispatch, startTime: sent);
        span?.SetTag(ServiceMeters.Space, space);
    }
}
