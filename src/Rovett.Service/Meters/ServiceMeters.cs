using System.Diagnostics.Metrics;
using Rovett.Core.Store;
using Rovett.Service.Diagnostics;

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

    /// <summary>The attribute that says what came of something: <c>matched</c>, <c>missed</c>.</summary>
    public const string Outcome = "rovett.outcome";

    internal const string Stored = "rovett.notifications", Events = "rovett.events", Refusals = "rovett.refusals",
        Received = "rovett.receipts", Duration = "rovett.delivery.duration", Sessions = "rovett.sessions",
        Sent = "rovett.dispatches", Waiting = "rovett.waiting", Failures = "rovett.faults";

    /// <summary>Receipts later than this belong to devices that were away, and are not timed.</summary>
    public static readonly TimeSpan TimedFor = TimeSpan.FromMinutes(1);

    /// <summary>How many of the notifications that a device acknowledges together are timed. With 1,000 sessions that acknowledge 128
    /// at a time, timing all of them took a third of the ledger's thread.</summary>
    const int MostTimed = 4;

    // From a tenth of a millisecond to a minute.
    internal static readonly InstrumentAdvice<double> Times = new()
    {
        HistogramBucketBoundaries =
            [0.0001, 0.0002, 0.0005, 0.001, 0.002, 0.005, 0.01, 0.02, 0.05, 0.1, 0.2, 0.5, 1, 2, 5, 10, 30, 60],
    };

    readonly Meter meter;
    readonly Counter<long> stored, events, refusals, received, opened, pages, deadlines;
    readonly Histogram<double> duration, written;
    readonly TimeProvider clock;
    readonly Recent recent = new();

    /// <summary>Creates the instruments.</summary>
    /// <param name="clock">The clock.</param>
    /// <param name="sessions">Counts the sessions.</param>
    /// <param name="faults">Counts faults.</param>
    public ServiceMeters(TimeProvider clock, Func<IReadOnlyList<SessionCount>> sessions, Faults faults)
    {
        this.clock = clock;
        meter = new Meter(new MeterOptions(Name) { Version = ServiceInfo.Version, Scope = this });
        stored = meter.CreateCounter<long>(Stored, "{notification}", "Notifications stored");
        events = meter.CreateCounter<long>(Events, "{event}", "Events taken");
        refusals = meter.CreateCounter<long>(Refusals, "{request}", "Requests refused, by the problem's type");
        received = meter.CreateCounter<long>(Received, "{receipt}", "Notifications received, once for each person");
        opened = meter.CreateCounter<long>("rovett.session.opens", "{session}", "Sessions opened");
        pages = meter.CreateCounter<long>("rovett.catch_up.pages", "{page}", "Pages of what was missed, read for sessions that are behind");
        deadlines = meter.CreateCounter<long>("rovett.deadlines", "{deadline}", "Deadlines that ended, met or missed");
        duration = meter.CreateHistogram(Duration, "s",
            "From the send to the first receipt of each person, for those who received it within a minute; at most four of those that " +
            "a device acknowledges together are measured", null, Times);
        written = meter.CreateHistogram("rovett.dispatch.duration", "s",
            "From the send until a live session's connection took it; measured in one of 32 sessions", null, Times);
        meter.CreateObservableUpDownCounter(Sessions, () => sessions().Select(s => new Measurement<long>(s.Open, Tags(s))),
            "{session}", "Open sessions");
        meter.CreateObservableUpDownCounter(Waiting, () => sessions().Select(s => new Measurement<long>(s.Waiting, Tags(s))),
            "{notification}", "Notifications sent to devices and not acknowledged yet");
        meter.CreateObservableUpDownCounter("rovett.sessions.behind",
            () => sessions().Select(s => new Measurement<long>(s.Behind, Tags(s))), "{session}",
            "Open sessions that do not have everything yet: they catch up, or read too slowly");
        meter.CreateObservableCounter(Sent, () => sessions().Select(s => new Measurement<long>(s.Sent, Tags(s))),
            "{notification}", "Notifications sent to devices");
        meter.CreateObservableCounter("rovett.session.io", () => sessions().Select(s => new Measurement<long>(s.Bytes, Tags(s))), "By",
            "Bytes written to sessions, before TLS");
        meter.CreateObservableCounter("rovett.session.acknowledgements",
            () => sessions().Select(s => new Measurement<long>(s.Acked, Tags(s))), "{notification}",
            "Notifications that devices acknowledged");
        meter.CreateObservableCounter(Failures, () => faults.Bugs + faults.StoreFailures, "{fault}", "Bugs and failures of the store");
    }

    static KeyValuePair<string, object?>[] Tags(SessionCount count) => [new(Space, count.Space), new(Transport, count.Transport)];

    /// <summary>Other instruments of the service belong to it, too.</summary>
    internal Meter Meter => meter;

    /// <summary>Events were taken.</summary>
    /// <param name="space">The space.</param>
    /// <param name="outcome"><c>matched</c>, <c>unmatched</c>, <c>repeated</c> or <c>set_aside</c>.</param>
    /// <param name="count">How many.</param>
    public void TookEvents(string space, string outcome, int count)
    {
        if (count > 0) events.Add(count, new(Space, space), new(Outcome, outcome));
    }

    /// <summary>A session was opened.</summary>
    /// <param name="space">The space.</param>
    /// <param name="transport">The transport.</param>
    public void Opened(string space, string transport) => opened.Add(1, new(Space, space), new(Transport, transport));

    /// <summary>A page of what was missed was read.</summary>
    public void ReadPage(string space) => pages.Add(1, new KeyValuePair<string, object?>(Space, space));

    /// <summary>A deadline ended.</summary>
    internal void DeadlineEnded(string space, bool isMet) => deadlines.Add(1, new(Space, space), new(Outcome, isMet ? "met" : "missed"));

    /// <summary>A live session's connection took a notification.</summary>
    /// <param name="space">The space.</param>
    /// <param name="transport">The transport.</param>
    /// <param name="sent">When it was sent.</param>
    internal void WasWritten(string space, string transport, StoredTime sent) =>
        written.Record(Math.Max(0, Now - sent.Micros) / 1e6, new(Space, space), new(Transport, transport));

    /// <summary>A request was refused.</summary>
    /// <param name="space">The space.</param>
    /// <param name="reason">The problem's type: <c>too-many-sends</c>.</param>
    public void Refused(string space, string reason) =>
        refusals.Add(1, new KeyValuePair<string, object?>(Space, space), new KeyValuePair<string, object?>(Reason, reason));

    /// <summary>A notification is on disk. Not safe to call from several threads at once.</summary>
    internal void WasStored(string space, StoredTime at, IReadOnlyList<Placement> placements)
    {
        stored.Add(1, new KeyValuePair<string, object?>(Space, space));
        long oldest = Now - (long)TimedFor.TotalMicroseconds;
        foreach (var place in placements) recent.Add((place.Log, place.Ordinal), at.Micros, oldest);
    }

    /// <summary>Notifications of a log were received by one more person. Not safe to call from several threads at once.</summary>
    internal void WasReceived(string space, long log, OrdinalRun run)
    {
        var tag = new KeyValuePair<string, object?>(Space, space);
        long now = Now;
        long timed = Math.Min(run.Count, MostTimed);
        for (long i = 0; i < timed; i++)
        {
            // Spread over the run, from its first to its last.
            if (recent.Of(log, run.From + (timed == 1 ? 0 : (run.Count - 1) * i / (timed - 1))) is not { } at) continue;
            var took = TimeSpan.FromMicroseconds(Math.Max(0, now - at));
            if (took <= TimedFor) duration.Record(took.TotalSeconds, tag);
        }
        received.Add(run.Count, tag);
    }

    long Now => StoredTime.From(clock.GetUtcNow()).Micros;

    /// <inheritdoc/>
    public void Dispose() => meter.Dispose();

    /// <summary>When the newest notifications of all spaces were sent.</summary>
    sealed class Recent
    {
        const int Most = 32 * 1024;
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

        public long? Of(long log, long ordinal) => times.TryGetValue((log, ordinal), out long at) ? at : null;
    }
}
