using Rovett.Simulator;
using Shouldly;
using Xunit;

namespace Rovett.Core.Tests;

/// <summary>A short sweep of the simulator: whole worlds of devices, networks, faults and restores, judged by the
/// reference model. <c>make simulate SEEDS=1..10000</c> runs a long one.</summary>
public class SimulationTests
{
    [Fact]
    public void Every_simulated_history_agrees_with_the_reference()
    {
        var folder = Program.Folder();
        try
        {
            var template = Program.Template(folder);
            int delivered = 0;
            foreach (int seed in Enumerable.Range(1, 60)) delivered += Program.Run(seed, template, folder).Counts.Delivered;
            delivered.ShouldBeGreaterThan(10_000); // it did run
        }
        finally
        {
            Directory.Delete(folder, recursive: true);
        }
    }

    /// <summary>Each with the first of the seeds that are tried.</summary>
    public static TheoryData<Controls, int> LeftOut => new()
    {
        { new Controls(WithoutFence: true), 80 },
        { new Controls(WithoutReadCheck: true), 80 },
        { new Controls(WithoutLettingGo: true), 73 },
        { new Controls(WithSkippedEntry: true), 12 },
        { new Controls(TakenCountsAsWritten: true), 1 },
    };

    [Theory]
    [MemberData(nameof(LeftOut))]
    public void What_keeps_nodes_apart_is_missed_when_it_is_left_out(Controls controls, int first)
    {
        var folder = Program.Folder() + "-controls";
        try
        {
            var template = Program.Template(folder);
            Enumerable.Range(first, 20).Any(seed => IsWrong(seed, template, folder, controls)).ShouldBeTrue();
        }
        finally
        {
            Directory.Delete(folder, recursive: true);
        }
    }

    static bool IsWrong(int seed, string template, string folder, Controls controls)
    {
        try
        {
            Program.Run(seed, template, folder, controls: controls);
            return false;
        }
        catch (SimulationException)
        {
            return true;
        }
    }
}
