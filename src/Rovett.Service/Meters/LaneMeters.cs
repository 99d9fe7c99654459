using System.Collections.Concurrent;
using System.Diagnostics;
using System.Diagnostics.Metrics;
using System.Text.Json;
using Rovett.Core.Ledgers;

namespace Rovett.Service.Meters;

/// <summary>What lanes do: how much a commit has, how long it takes, how long commands wait for their turn.</summary>
public sealed class LaneMeters
{
    static readonly InstrumentAdvice<int> Sizes = new() { HistogramBucketBoundaries = [1, 2, 5, 10, 20, 50, 100, 200, 512] };
    static readonly InstrumentAdvice<double> Holds = new() { HistogramBucketBoundaries = [0.001, 0.005, 0.02, 0.1, 0.5] };

    readonly ConcurrentDictionary<Type, KeyValuePair<string, object?>> kinds = [];

    readonly Meter meter;
    readonly Histogram<double> took, waited, held;
    readonly Histogram<int> sizes;

    /// <summary>Creates the instruments.</summary>
    public LaneMeters(ServiceMeters meters)
    {
        meter = meters.Meter;
        took = meter.CreateHistogram("rovett.batch.duration", "s",
            "From the start of a batch of commands to its answers: deciding, and the commit to the store", null, ServiceMeters.Times);
        sizes = meter.CreateHistogram("rovett.batch.size", "{command}", "Commands in a batch, which share a commit", null, Sizes);
        waited = meter.CreateHistogram("rovett.batch.wait", "s", "How long the first command of a batch had waited for its turn", null,
            ServiceMeters.Times);
        held = meter.CreateHistogram("rovett.command.duration", "s",
            "How long a command held its lane, not counting the commit; single sends and acknowledgements are not timed one by one", null,
            Holds);
    }

    /// <summary>Counts what waits.</summary>
    /// <param name="waiting">How many commands wait in each lane.</param>
    public void Watch(Func<IEnumerable<int>> waiting) => meter.CreateObservableUpDownCounter("rovett.lane.waiting",
        () => waiting().Select((n, lane) => new Measurement<int>(n, new KeyValuePair<string, object?>("rovett.lane", lane))), "{command}",
        "Commands that wait for their lane");

    internal void CarriedOut(IReadOnlyList<LedgerCommand> batch, long began)
    {
        if (!took.Enabled) return;
        took.Record(Stopwatch.GetElapsedTime(began).TotalSeconds);
        sizes.Record(batch.Count);
        waited.Record(batch[0].AskedAt is var asked and not 0 ? Stopwatch.GetElapsedTime(asked, began).TotalSeconds : 0);
        foreach (var command in batch)
        {
            if (command.Held is { } time) held.Record(time.TotalSeconds, kinds.GetOrAdd(command.GetType(), KindOf));
        }
    }

    static KeyValuePair<string, object?> KindOf(Type command) =>
        new("rovett.command", JsonNamingPolicy.SnakeCaseLower.ConvertName(command.Name.Replace("Command", "", StringComparison.Ordinal)));
}
