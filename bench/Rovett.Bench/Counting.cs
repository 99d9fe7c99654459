using System.Diagnostics;
using Microsoft.Extensions.Logging.Abstractions;
using OpenTelemetry;
using OpenTelemetry.Metrics;
using Rovett.Core.Values;
using Rovett.Service.Diagnostics;
using Rovett.Service.Meters;

namespace Rovett.Bench;

/// <summary>What it costs to measure one delivery: the instrument that the service records in, with what reads it attached.</summary>
static class Counting
{
    const int Times = 2_000_000;

    /// <summary>Measures, from one thread and from two at once.</summary>
    public static void Run()
    {
        using var meters = new ServiceMeters(TimeProvider.System, () => [], new Faults(TimeProvider.System, NullLogger<Faults>.Instance));
        using var provider = Sdk.CreateMeterProviderBuilder().AddMeter(ServiceMeters.Name)
            .AddReader(new PeriodicExportingMetricReader(new Nowhere(), 1000)).Build();
        foreach (int threads in new[] { 1, 1, 2, 2 })
        {
            var sent = new StoredTime((DateTimeOffset.UtcNow - DateTimeOffset.UnixEpoch).Ticks / TimeSpan.TicksPerMicrosecond);
            long began = Stopwatch.GetTimestamp();
            Parallel.For(0, threads, new ParallelOptions { MaxDegreeOfParallelism = threads }, _ =>
            {
                for (int i = 0; i < Times; i++) meters.WasWritten("main", "websocket", sent);
            });
            double each = Stopwatch.GetElapsedTime(began).TotalNanoseconds / Times;
            Console.WriteLine($"{threads} threads: a notification timed costs {each:F0} ns of a thread, in one of 32 sessions " +
                $"{each / 32:F1} ns a delivery");
        }
    }

    sealed class Nowhere : BaseExporter<Metric>
    {
        public override ExportResult Export(in Batch<Metric> batch) => ExportResult.Success;
    }
}
