using System.Diagnostics.Metrics;
using System.Text.Json;
using Rovett.Core.Ledgers;
using Rovett.Service.Diagnostics;
using Rovett.Storage.Access;

namespace Rovett.Service.Meters;

/// <summary>How far back meters look, and in which steps.</summary>
/// <param name="Name">As it is asked for.</param>
/// <param name="Step">The length of a step.</param>
/// <param name="Over">All of it.</param>
public sealed record MeterWindow(string Name, TimeSpan Step, TimeSpan Over)
{
    /// <summary>All that are kept.</summary>
    public static readonly IReadOnlyList<MeterWindow> All =
    [
        new("15m", TimeSpan.FromSeconds(10), TimeSpan.FromMinutes(15)), new("1h", TimeSpan.FromMinutes(1), TimeSpan.FromHours(1)),
        new("1d", TimeSpan.FromMinutes(15), TimeSpan.FromDays(1)), new("7d", TimeSpan.FromHours(1), TimeSpan.FromDays(7)),
    ];

    internal static int IndexOf(Func<MeterWindow, bool> which) =>
        All.Index().Where(w => which(w.Item)).Select(w => (int?)w.Index).FirstOrDefault() ?? -1;

    internal long StepSeconds => (long)Step.TotalSeconds;
    internal long StartOf(long second) => second - second % StepSeconds;
    internal long Oldest(long second) => StartOf(second - (long)Over.TotalSeconds);
}

/// <summary>Listens to the meters, adds up what they count over each window's steps, and keeps it across restarts: written
/// once a minute and when the service ends.</summary>
public sealed class MeterKeeper : IDisposable
{
    static readonly TimeSpan Every = TimeSpan.FromSeconds(10);
    const int RoundsToWriting = 6;

    sealed class Kept
    {
        public Counted Now = new();
        public readonly Dictionary<(string Instrument, string Transport), long> Before = [];
        public readonly SortedDictionary<long, Counted>[] Spans = [.. MeterWindow.All.Select(_ => new SortedDictionary<long, Counted>())];
        public readonly HashSet<(int Window, long Start)> Unwritten = [];
    }

    readonly Lock gate = new(), turns = new();
    readonly Dictionary<string, Kept> spaces = [];
    readonly AccessStore store;
    readonly ServiceInfo info;
    readonly ServiceClock clock;
    readonly Faults faults;
    readonly MeterListener listener;
    readonly Repeating rounds;
    int round;

    /// <summary>Begins to listen.</summary>
    public MeterKeeper(ServiceMeters meters, AccessStore store, ServiceInfo info, ServiceClock clock, Faults faults)
    {
        (this.store, this.info, this.clock, this.faults) = (store, info, clock, faults);
        Load();
        listener = new MeterListener
        {
            InstrumentPublished = (instrument, me) =>
            {
                if (instrument.Meter.Scope == meters && Takings.GetValueOrDefault(instrument.Name) is { } taking)
                    me.EnableMeasurementEvents(instrument, taking);
            },
        };
        listener.SetMeasurementEventCallback<long>((_, value, tags, taking) => Took((Taking)taking!, value, tags));
        listener.SetMeasurementEventCallback<double>((_, value, tags, taking) => Took((Taking)taking!, value, tags));
        listener.Start();
        rounds = new Repeating("meters", Every, clock, faults, Round);
    }

    void Load()
    {
        long now = Second;
        foreach (var stored in store.Spans())
        {
            int window = MeterWindow.IndexOf(w => w.StepSeconds == stored.Length);
            if (window < 0 || stored.Start < MeterWindow.All[window].Oldest(now) || stored.Start > now) continue;
            Of(stored.Space).Spans[window][stored.Start] = JsonSerializer.Deserialize(stored.Counted, CountedJson.Default.Counted)!;
        }
    }

    long Second => clock.GetUtcNow().ToUnixTimeSeconds();

    Kept Of(string space)
    {
        if (!spaces.TryGetValue(space, out var kept)) spaces[space] = kept = new Kept();
        return kept;
    }

    delegate void Taking(Kept kept, string transport, double value);

    /// <summary>What is done with each instrument's measurements.</summary>
    static readonly Dictionary<string, Taking> Takings = new()
    {
        [ServiceMeters.Stored] = static (kept, _, value) => kept.Now.Stored += (long)value,
        [ServiceMeters.Events] = static (kept, _, value) => kept.Now.Events += (long)value,
        [ServiceMeters.Refusals] = static (kept, _, value) => kept.Now.Refused += (long)value,
        [ServiceMeters.Received] = static (kept, _, value) => kept.Now.Received += (long)value,
        [ServiceMeters.Duration] = static (kept, _, value) => kept.Now.AddDelay(value),
        [ServiceMeters.Sessions] = static (kept, transport, value) => kept.Now.Sessions[transport] = (long)value,
        [ServiceMeters.Waiting] = static (kept, _, value) => kept.Now.Waiting += (long)value,
        [ServiceMeters.Sent] = static (kept, transport, value) => kept.Now.Sent += More(kept, ServiceMeters.Sent, transport, (long)value),
        [ServiceMeters.Failures] =
            static (kept, transport, value) => kept.Now.Faults += More(kept, ServiceMeters.Failures, transport, (long)value),
    };

    void Took(Taking taking, double value, ReadOnlySpan<KeyValuePair<string, object?>> tags)
    {
        string space = "", transport = "";
        foreach (var (key, given) in tags)
        {
            if (key == ServiceMeters.Space) space = (string)given!;
            else if (key == ServiceMeters.Transport) transport = (string)given!;
        }
        lock (gate) taking(Of(space), transport, value);
    }

    /// <summary>What came to a sum since it was last read. Read while a session ends, it can be too small for a moment.</summary>
    static long More(Kept kept, string instrument, string transport, long value)
    {
        long before = kept.Before.GetValueOrDefault((instrument, transport));
        kept.Before[(instrument, transport)] = Math.Max(before, value);
        return Math.Max(0, value - before);
    }

    /// <summary>Adds what was counted since the last time to the steps of now.</summary>
    public void Gather()
    {
        lock (turns)
        {
            listener.RecordObservableInstruments();
            long second = Second, bytes = info.HistoryBytes();
            lock (gate)
            {
                foreach (var (space, kept) in spaces)
                {
                    var counted = kept.Now;
                    kept.Now = new Counted();
                    if (space.Length == 0) counted.StoreBytes = bytes;
                    else if (counted.IsEmpty) continue;
                    for (int w = 0; w < MeterWindow.All.Count; w++)
                    {
                        var (window, spans) = (MeterWindow.All[w], kept.Spans[w]);
                        long start = window.StartOf(second);
                        if (!spans.TryGetValue(start, out var span)) spans[start] = span = new Counted();
                        span.Add(counted);
                        kept.Unwritten.Add((w, start));
                        while (spans.Count > 0 && spans.First().Key < window.Oldest(second)) spans.Remove(spans.First().Key);
                    }
                }
            }
        }
    }

    Task Round()
    {
        Gather();
        if (++round % RoundsToWriting == 0) Write();
        return Task.CompletedTask;
    }

    /// <summary>Stores what has changed. What could not be stored is stored by a later round.</summary>
    void Write()
    {
        var changed = new List<(Kept Of, string Space, int Window, long Start, Counted Counted)>();
        lock (gate)
        {
            foreach (var (space, kept) in spaces)
            {
                foreach (var (window, start) in kept.Unwritten)
                {
                    // Copied, as it is written as text without the lock: the ledger's thread counts meanwhile.
                    if (!kept.Spans[window].TryGetValue(start, out var span)) continue;
                    var copy = new Counted();
                    copy.Add(span);
                    changed.Add((kept, space, window, start, copy));
                }
                kept.Unwritten.Clear();
            }
        }
        long second = Second;
        try
        {
            store.SaveSpans([.. changed.Select(c => new StoredSpan(c.Space, MeterWindow.All[c.Window].StepSeconds, c.Start,
                JsonSerializer.Serialize(c.Counted, CountedJson.Default.Counted)))],
                [.. MeterWindow.All.Select(w => (w.StepSeconds, w.Oldest(second)))]);
        }
        catch
        {
            lock (gate)
            {
                foreach (var one in changed) one.Of.Unwritten.Add((one.Window, one.Start));
            }
            throw;
        }
    }

    /// <summary>What was counted until the last <see cref="Gather"/>: a value for each step of a window up to now, oldest first; steps
    /// without anything are empty.</summary>
    /// <param name="space">The space; empty for what belongs to no space.</param>
    /// <param name="window">How far back.</param>
    public IReadOnlyList<(DateTimeOffset Start, Counted Counted)> Over(string space, MeterWindow window)
    {
        int index = MeterWindow.IndexOf(w => w == window);
        long last = window.StartOf(Second);
        var points = new List<(DateTimeOffset, Counted)>();
        lock (gate)
        {
            var spans = spaces.GetValueOrDefault(space)?.Spans[index];
            for (long start = window.Oldest(last) + window.StepSeconds; start <= last; start += window.StepSeconds)
            {
                var counted = new Counted();
                if (spans?.GetValueOrDefault(start) is { } span) counted.Add(span);
                points.Add((DateTimeOffset.FromUnixTimeSeconds(start), counted));
            }
        }
        return points;
    }

    /// <summary>Forgets a space that was removed.</summary>
    public void Forget(string space)
    {
        lock (gate)
        {
            if (!spaces.TryGetValue(space, out var kept)) return;
            kept.Now = new Counted();
            foreach (var spans in kept.Spans) spans.Clear();
            kept.Unwritten.Clear();
        }
    }

    /// <inheritdoc/>
    public void Dispose()
    {
        rounds.Dispose();
        try
        {
            Gather();
            Write();
        }
        catch (Exception error)
        {
            faults.Thrown(null, "meters", error); // the rest of the service stops in order all the same
        }
        listener.Dispose();
    }
}
