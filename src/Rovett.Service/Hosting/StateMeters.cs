using System.Diagnostics.Metrics;
using Rovett.Service.Backups;
using Rovett.Service.Cluster;
using Rovett.Service.Diagnostics;
using Rovett.Service.Intakes;
using Rovett.Service.Ledgers;
using Rovett.Service.Limits;
using Rovett.Service.Meters;
using Rovett.Service.Options;
using Rovett.Service.Spaces;
using Rovett.Storage.Access;
using Rovett.Storage.Homes;
using Rovett.Storage.Sql;

namespace Rovett.Service.Hosting;

/// <summary>How the service is at the moment somebody asks: its store, its limits, what waits, its intakes and webhooks, its place among
/// nodes. Nothing of it costs anything in between.</summary>
public sealed class StateMeters
{
    // What is counted in the store is counted at most so often.
    static readonly TimeSpan CountHolds = TimeSpan.FromSeconds(15);

    readonly SpaceDirectory spaces;
    readonly SqlHistory history;
    readonly AccessStore access;
    readonly Faults faults;
    readonly TimeProvider clock;
    readonly Lock gate = new();
    long? countedAt;
    Backlog backlog = new([], []);

    sealed record Backlog(IReadOnlyList<(int Space, long Count)> SetAside, IReadOnlyList<(int Space, long Count)> Outbound);

    /// <summary>Creates the instruments.</summary>
    public StateMeters(ServiceMeters meters, IStoreHome home, LedgerPump ledger, SpaceDirectory spaces, SqlHistory history,
        AccessStore access, BackupRounds backups, UsageLimits limits, Connections connections, RovettOptions options, IntakeList intakes,
            Lease lease,
        IServiceProvider provider, TimeProvider clock, Faults faults)
    {
        (this.spaces, this.history, this.access, this.faults, this.clock) = (spaces, history, access, faults, clock);
        var meter = meters.Meter;
        meter.CreateObservableGauge("rovett.store.size", () => home.HistoryBytes(), "By", "Bytes of the history on disk");
        meter.CreateObservableGauge("rovett.store.log.size", () => Known(home.LogBytes()), "By",
            "Bytes of the history's write-ahead log; a data folder only");
        meter.CreateObservableGauge("rovett.store.free", () => Known(home.FreeBytes()), "By", "Bytes free on the disk of a data folder");
        meter.CreateObservableGauge("rovett.store.failing", () => ledger.StoreFailing ? 1 : 0, null,
            "1 while the last attempt to write to the store has failed");
        meter.CreateObservableGauge("rovett.backup.age", () => Known(backups.Age), "s",
            "How long ago the newest backup was begun, or the service while there is none; only with 'backups'");
        meter.CreateObservableGauge("rovett.backup.interval", () => Known(backups.Every), "s",
            "How often backups are made; only with 'backups'");
        meter.CreateObservableCounter("rovett.backup.failures", () => backups.Failures, "{attempt}", "Backups that could not be made");
        meter.CreateObservableGauge("rovett.batch.longest", () => ledger.LongestUnderWay.TotalSeconds, "s",
            "How long the longest batch under way has taken so far");
        meter.CreateObservableUpDownCounter("rovett.connections", () => connections.Now, "{connection}", "Connections to the service");
        meter.CreateObservableGauge("rovett.connections.limit", () => connections.Most, "{connection}", "The most there may be");
        meter.CreateObservableUpDownCounter("rovett.sends.active", () => limits.Sending.Inside, "{request}", "Sends carried out now");
        meter.CreateObservableGauge("rovett.sends.limit", () => options.SendsAtOnce, "{request}", "The most that are at a time");
        meter.CreateObservableUpDownCounter("process.open_file_descriptor.count", (Func<int>)OpenFiles, "{file_descriptor}",
            "Files and sockets that the process has open");
        meter.CreateObservableUpDownCounter("rovett.spaces", () => spaces.All.Count(), "{space}", "Spaces");
        meter.CreateObservableUpDownCounter<long>("rovett.set_aside", () => InSpaces(b => b.SetAside), "{item}",
            "Work that was set aside and waits for an operator");
        meter.CreateObservableUpDownCounter<long>("rovett.outbound.waiting", () => InSpaces(b => b.Outbound), "{item}",
            "Webhook calls and e-mails of missed deadlines that are still to be made");
        meter.CreateObservableGauge("rovett.webhook.failures", Webhooks, "{attempt}",
            "How often a webhook has failed in a row; 0: it takes what it is sent");
        meter.CreateObservableGauge("rovett.intake.running", () => intakes.All.Select(i => Of(i,
            i.Progress.Read().State == IntakeState.Running ? 1 : 0)),
            null, "1 while an intake takes what its source delivers");
        meter.CreateObservableCounter("rovett.intake.events", () => intakes.All.Select(i => Of(i, i.Progress.Read().Events)), "{event}",
            "Events taken from a source, repeats included");
        meter.CreateObservableGauge("rovett.intake.behind",
            () => intakes.All.SelectMany(i => i.Progress.Read().Behind is { } n ? [Of(i, n)] : Array.Empty<Measurement<long>>()), "{event}",
            "Events that wait at a source which tells");
        meter.CreateObservableGauge("rovett.intake.lag", () => intakes.All.SelectMany(i => i.Progress.Read().Lag is { } lag
            ? [new Measurement<double>(lag.TotalSeconds, Tags(i))] : Array.Empty<Measurement<double>>()), "s",
            "How long the oldest event of the last batch had waited at its source");
        if (provider.GetService<Nodes>() is not { } nodes) return;
        meter.CreateObservableUpDownCounter("rovett.node.spaces", () => nodes.SpacesServed, "{space}", "Spaces that this node serves");
        meter.CreateObservableUpDownCounter("rovett.node.held_sessions", () => provider.GetRequiredService<LinkPool>().Held, "{session}",
            "Sessions that this node holds of spaces which other nodes serve");
        meter.CreateObservableGauge("rovett.node.heard", () => lease.Age == TimeSpan.MaxValue ? double.MaxValue
            : lease.Age.TotalSeconds, "s",
            "How long ago the database last took this node's sign of life; it acts on it for 2.5 s");
    }

    static IEnumerable<Measurement<double>> Known(TimeSpan? time) => time is { } known ? [new(known.TotalSeconds)] : [];

    static IEnumerable<Measurement<long>> Known(long? value) => value is { } known ? [new(known)] : [];

    static KeyValuePair<string, object?>[] Tags(Intake intake) =>
        [new(ServiceMeters.Space, intake.Settings.Space), new("rovett.intake", intake.Settings.Name)];

    static Measurement<long> Of(Intake intake, long value) => new(value, Tags(intake));

    static int OpenFiles()
    {
        try
        {
            return Directory.EnumerateFileSystemEntries("/proc/self/fd").Count();
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            return 0; // not Linux
        }
    }

    IEnumerable<Measurement<long>> Webhooks()
    {
        try
        {
            return [.. access.Webhooks().Where(w => w.Ended is null && spaces.Find(w.Space) is { IsHere: true })
                .Select(w => new Measurement<long>(w.Failures, new(ServiceMeters.Space, w.Space), new("rovett.webhook", w.Name)))];
        }
        catch (Exception error)
        {
            faults.Thrown(null, nameof(StateMeters), error);
            return [];
        }
    }

    IEnumerable<Measurement<long>> InSpaces(Func<Backlog, IReadOnlyList<(int Space, long Count)>> which)
    {
        var counts = which(Count()).ToDictionary(c => c.Space, c => c.Count);
        return spaces.Here.Select(s => new Measurement<long>(counts.GetValueOrDefault(s.Id), new KeyValuePair<string,
            object?>(ServiceMeters.Space, s.Name)));
    }

    Backlog Count()
    {
        lock (gate)
        {
            if (countedAt is { } at && clock.GetElapsedTime(at) < CountHolds) return backlog;
            try
            {
                backlog = new Backlog(history.SetAsideBySpace(), history.OutboundBySpace());
            }
            catch (Exception error)
            {
                faults.Thrown(null, nameof(StateMeters), error); // what was counted last is shown
            }
            countedAt = clock.GetTimestamp();
            return backlog;
        }
    }
}
