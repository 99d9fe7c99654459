using System.Diagnostics;

namespace Rovett.CoreBench;

/// <summary>A user's first touch with logs of 100,000 and of 1,000,000, in turn, batch by batch: a machine whose speed
/// changes by the minute shows the ratio all the same.</summary>
static class Growth
{
    const int Batches = 60, Touches = 400;

    public static void Run()
    {
        TotalsBench small = new() { Length = 100_000 }, large = new() { Length = 1_000_000 };
        small.Setup();
        large.Setup();
        try
        {
            Time(small);
            Time(large);
            var ratios = new List<double>();
            var smalls = new List<double>();
            for (int i = 0; i < Batches; i++)
            {
                double a = Time(small), b = Time(large), again = Time(small);
                smalls.Add(a);
                ratios.Add(2 * b / (a + again));
            }
            ratios.Sort();
            smalls.Sort();
            Console.WriteLine($"first touch, 20 logs of 1,000,000 against 20 of 100,000, {Batches} pairs in turn: " +
                $"{ratios[Batches / 2]:0.00} × [{ratios[Batches / 10]:0.00} – {ratios[Batches * 9 / 10]:0.00}]; {smalls[Batches / 2]:0} " +
                $"µs at 100,000");
        }
        finally
        {
            small.Cleanup();
            large.Cleanup();
        }
    }

    static double Time(TotalsBench bench)
    {
        long start = Stopwatch.GetTimestamp();
        for (int i = 0; i < Touches; i++) bench.FirstTouch();
        return Stopwatch.GetElapsedTime(start).TotalMicroseconds / Touches;
    }
}
