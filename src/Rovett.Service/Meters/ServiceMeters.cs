using System.Diagnostics.Metrics;
using Rovett.Core.Store;
using Rovett.Service.Diagnostics;
using Rovett.Service.Live;

namespace Rovett.Service.Meters;

/// <summary>The instruments of the service, named by OpenTelemetry's conventions. Attributes are names of spaces and
/// transports, never people. What can be read off is observed when somebody asks and costs nothing on the way.</summary>
public sealed class ServiceMeters : IDisposable
{
    /// <summary>The meter's name.</summary>
    public const string Name = "Rovett";

    /// <summary>The attribute that names the space.</summary>
    public const string Space = "rovett.space";

    /// <summary>The attribute that names the transport.</summary>
    public const string Transport = "rovett.transport";

    /// <summary>The attribute that says why a request was refused.</summary>
    public const string Reason = "error.type";

    internal const string Stored = "rovett.notifications", Events = "rovett.events", Refusals = "rovett.refusals",
        Received = "rovett.receipts", Duration = "rovett.delivery.duration", Sessions = "rovett.sessions",
        Sent = "rovett.dispatches", Waiting = "rovett.waiting", Failures = "rovett.faults";

    /// <summary>Receipts later than this belong to devices that were away, and are not timed.</summary>
    public static readonly TimeSpan TimedFor = TimeSpan.FromMinutes(1);

    readonly Meter meter;
    readonly Counter<long> stored, events, refusals, received;
    readonly Histogram<double> duration;
    readonly TimeProvider clock;
    readonly Dictionary<string, Recent> recent = [];

    /// <summary>Creates the instruments.</summary>
    public ServiceMeters(TimeProvider clock, SessionRegistry sessions, Faults faults)
    {
        this.clock = clock;
        meter = new Meter(new MeterOptions(Name) { Version = ServiceInfo.Version, Scope = this });
        stored = meter.CreateCounter<long>(Stored, "{notification}", "Notifications stored");
        events = meter.CreateCounter<long>(Events, "{event}", "Events taken");
        refusals = meter.CreateCounter<long>(Refusals, "{request}", "Requests refused, by the problem's type");
        received = meter.CreateCounter<long>(Received, "{receipt}", "Notifications received, once for each person");
        duration = meter.CreateHistogram<double>(Duration, "s",
            "From the send to the first receipt of each person, for those who received it within a minute");
        meter.CreateObservableUpDownCounter(Sessions, () => sessions.Count().Select(s => new Measurement<long>(s.Open, Tags(s))),
            "{session}", "Open sessions");
        meter.CreateObservableUpDownCounter(Waiting, () => sessions.Count().Select(s => new Measurement<long>(s.Waiting, Tags(s))),
            "{notification}", "Notifications sent to devices and not acknowledged yet");
        meter.CreateObservableCounter(Sent, () => sessions.Count().Select(s => new Measurement<long>(s.Sent, Tags(s))),
            "{notification}", "Notifications sent to devices");
        meter.CreateObservableCounter(Failures, () => faults.Bugs + faults.StoreFailures, "{fault}", "Bugs and failures of the store");
    }

    static KeyValuePair<string, object?>[] Tags(SessionCount count) => [new(Space, count.Space), new(Transport, count.Transport)];

    /// <summary>Events were taken.</summary>
    public void TookEvents(string space, int count) => events.Add(count, new KeyValuePair<string, object?>(Space, space));

    /// <summary>A request was refused.</summary>
    /// <param name="space">The space.</param>
    /// <param name="reason">The problem's type: <c>too-many-sends</c>.</param>
    public void Refused(string space, string reason) =>
        refusals.Add(1, new KeyValuePair<string, object?>(Space, space), new KeyValuePair<string, object?>(Reason, reason));

    /// <summary>A notification is on disk. Not safe to call from several threads at once.</summary>
    internal void WasStored(string space, StoredTime at, IReadOnlyList<Placement> placements)
    {
        stored.Add(1, new KeyValuePair<string, object?>(Space, space));
        if (!recent.TryGetValue(space, out var times)) recent[space] = times = new Recent();
        long oldest = Now - (long)TimedFor.TotalMicroseconds;
        foreach (var place in placements) times.Add((place.Log, place.Ordinal), at.Micros, oldest);
    }

    /// <summary>Notifications of a log were received by one more person. Not safe to call from several threads at once.</summary>
    internal void WasReceived(string space, long log, OrdinalRun run)
    {
        var tag = new KeyValuePair<string, object?>(Space, space);
        if (recent.TryGetValue(space, out var times))
        {
            long now = Now;
            foreach (long at in times.Of(log, run))
            {
                var took = TimeSpan.FromMicroseconds(Math.Max(0, now - at));
                if (took <= TimedFor) duration.Record(took.TotalSeconds, tag);
            }
        }
        received.Add(run.Count, tag);
    }

    long Now => StoredTime.From(clock.GetUtcNow()).Micros;

    /// <inheritdoc/>
    public void Dispose() => meter.Dispose();

    /// <summary>When the newest notifications of a space were sent.</summary>
    sealed class Recent
    {
        const int Most = 8192;
        readonly Dictionary<(long Log, long Ordinal), long> times = [];
        readonly Queue<(long Log, long Ordinal)> order = new();

        public void Add((long, long) place, long at, long oldest)
        {
            while (order.TryPeek(out var first) && (order.Count >= Most || times[first] < oldest))
            {
                order.Dequeue();
                times.Remove(first);
            }
            if (times.TryAdd(place, at)) order.Enqueue(place);
        }

        public IEnumerable<long> Of(long log, OrdinalRun run)
        {
            if (run.Count > times.Count)
            {
                foreach (var (place, at) in times)
                {
                    if (place.Log == log && place.Ordinal >= run.From && place.Ordinal <= run.To) yield return at;
                }
                yield break;
            }
            for (long ordinal = run.From; ordinal <= run.To; ordinal++)
            {
                if (times.TryGetValue((log, ordinal), out long at)) yield return at;
            }
        }
    }
}
