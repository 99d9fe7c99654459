using System.Diagnostics;
using System.Globalization;
using System.Text;
using Rovett.Storage.Sqlite;

namespace Rovett.Simulator;

/// <summary>Runs worlds by their seeds: <c>Rovett.Simulator 1..1000</c>, or one with <c>--log</c> to see all that happened in it.
/// <c>--without-fence</c>, <c>--without-read-check</c> and <c>--without-letting-go</c> leave a part of the service out, which must be
/// found.</summary>
public static class Program
{
    /// <summary>Runs one world.</summary>
    /// <exception cref="SimulationException">Something was wrong; the message begins with the seed.</exception>
    public static World Run(int seed, string template, string folder, StringBuilder? log = null, Controls? controls = null)
    {
        using var world = new World(seed, template, Path.Combine(folder, $"world-{seed}"), log, controls);
        try
        {
            var size = new Random(seed);
            world.Run(bursts: size.Next(2, 9), stepsPerBurst: size.Next(10, 90));
            return world;
        }
        catch (SimulationException wrong)
        {
            throw new SimulationException($"seed {seed} {wrong.Message}");
        }
    }

    /// <summary>Makes a fresh, migrated history file that worlds start from.</summary>
    public static string Template(string folder)
    {
        Directory.CreateDirectory(folder);
        var file = Path.Combine(folder, "template.db");
        if (File.Exists(file)) File.Delete(file);
        SqliteFiles.OpenHistory(file).Dispose();
        return file;
    }

    /// <summary>A folder in memory where there is one.</summary>
    public static string Folder() =>
        Path.Combine(Directory.Exists("/dev/shm") ? "/dev/shm" : Path.GetTempPath(), $"rovett-sim-{Environment.ProcessId}");

    static int Main(string[] args)
    {
        if (args.Length == 0 || !TryRange(args[0], out int first, out int last))
        {
            Console.Error.WriteLine("Say which seeds: Rovett.Simulator 1..1000, or 17 --log to see all that happens in one.");
            return 2;
        }
        var folder = Folder();
        var controls = new Controls(args.Contains("--without-fence"), args.Contains("--without-read-check"),
            args.Contains("--without-letting-go"), args.Contains("--with-lost-frames"), args.Contains("--with-split-lists"),
            args.Contains("--with-skipped-entry"), args.Contains("--taken-counts-as-written"));
        int failed = 0;
        var all = (Sent: 0L, Commands: 0L, Delivered: 0L, Crashes: 0L, Faults: 0L, Cuts: 0L, Restores: 0L, Erasures: 0L, Withdrawals: 0L,
            Said: 0L, Events: 0L, Repeats: 0L, Gathered: 0L, Dropped: 0L, TakeOvers: 0L, Stayed: 0L, Steps: 0L, Days: 0.0);
        var gate = new Lock();
        var watch = Stopwatch.StartNew();
        try
        {
            var template = Template(folder);
            // Bounded: as many worlds as threads would be begun otherwise, and each take long and hold its memory.
            Parallel.For(first, last + 1, new ParallelOptions { MaxDegreeOfParallelism = Environment.ProcessorCount }, seed =>
            {
                var log = args.Contains("--log") ? new StringBuilder() : null;
                try
                {
                    var world = Run(seed, template, folder, log, controls);
                    var c = world.Counts;
                    lock (gate)
                    {
                        all = (all.Sent + c.Sent, all.Commands + c.Commands, all.Delivered + c.Delivered, all.Crashes +
                            c.Crashes, all.Faults + c.Faults, all.Cuts + c.Cuts, all.Restores + c.Restores, all.Erasures +
                            c.Erasures, all.Withdrawals + c.Withdrawals, all.Said + c.Said, all.Events +
                            c.Events, all.Repeats + c.Repeats, all.Gathered + c.Gathered, all.Dropped + c.Dropped, all.TakeOvers + c.TakeOvers, all.Stayed + c.Stayed, all.Steps + c.Steps, all.Days +
                            world.Elapsed.TotalDays);
                    }
                }
                catch (Exception wrong)
                {
                    lock (gate)
                    {
                        Console.WriteLine(wrong is SimulationException ? wrong.Message : $"seed {seed} {wrong}");
                        failed++;
                    }
                }
                if (log is not null) Console.WriteLine(log);
            });
        }
        finally
        {
            Directory.Delete(folder, recursive: true);
        }
        Console.WriteLine(string.Create(CultureInfo.InvariantCulture, $"{last - first + 1} worlds (seeds {first}..{last}), {failed} " +
            $"wrong; {all.Days:0} simulated days in {watch.Elapsed.TotalSeconds:0} s: {all.Sent:N0} sends, {all.Commands:N0} commands, " +
            $"{all.Delivered:N0} messages delivered, {all.Crashes:N0} crashes, {all.Faults:N0} failed commits, {all.Cuts:N0} cuts, " +
            $"{all.Restores:N0} restores, {all.Erasures:N0} erasures, {all.Withdrawals:N0} keys withdrawn, {all.Said:N0} said, " +
            $"{all.Events:N0} events, {all.Repeats:N0} repeated, {all.Gathered:N0} gatherings closed, {all.Dropped:N0} withdrawn, " +
            $"{all.TakeOvers:N0} taken by another node, {all.Stayed:N0} sessions that stayed, {all.Steps:N0} later steps of commands"));
        return failed == 0 ? 0 : 1;
    }

    static bool TryRange(string text, out int first, out int last)
    {
        var parts = text.Split("..");
        last = 0;
        return int.TryParse(parts[0], NumberStyles.None, CultureInfo.InvariantCulture, out first)
            && int.TryParse(parts[^1], NumberStyles.None, CultureInfo.InvariantCulture, out last) && parts.Length <= 2 && last >= first;
    }
}
