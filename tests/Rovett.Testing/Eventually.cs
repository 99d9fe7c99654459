using System.Diagnostics;

namespace Rovett.Testing;

/// <summary>Waits for what must become true, and no longer.</summary>
public static class Eventually
{
    /// <summary>Asks until it holds; throws, with what was last seen, when it never does.</summary>
    public static async Task<T> Holds<T>(Func<Task<T>> look, Func<T, bool> holds, string what, int seconds = 60)
    {
        var clock = Stopwatch.StartNew();
        for (; ; )
        {
            var seen = await look();
            if (holds(seen)) return seen;
            if (clock.Elapsed.TotalSeconds > seconds) throw new TimeoutException($"Not within {seconds} s: {what}. Last seen: " +
                $"{Shown(seen)}");
            await Task.Delay(10);
        }
    }

    static string? Shown<T>(T seen) => seen is not string and System.Collections.IEnumerable all and not System.Text.Json.Nodes.JsonNode
        ? $"[{string.Join(", ", all.Cast<object>())}]" : $"{seen}";

    /// <summary>Asks until it holds.</summary>
    public static Task Holds(Func<bool> holds, string what, int seconds = 60) =>
        Holds(() => Task.FromResult(holds()), h => h, what, seconds);
}
