using System.Threading.Channels;

namespace Rovett.Service.Intakes;

/// <summary>Gathers what comes one by one.</summary>
static class Gathered
{
    /// <summary>The next of them: at least one, and then as many as have come already.</summary>
    /// <param name="reader">Where they come.</param>
    /// <param name="most">No more than these.</param>
    /// <param name="stop">Ends the waiting.</param>
    /// <returns>Empty: no more will come.</returns>
    public static async ValueTask<List<T>> Next<T>(this ChannelReader<T> reader, int most, CancellationToken stop)
    {
        var found = new List<T>();
        if (!await reader.WaitToReadAsync(stop)) return found;
        while (found.Count < most && reader.TryRead(out var one)) found.Add(one);
        return found;
    }

    /// <summary>Waits for something, but not for ever.</summary>
    /// <returns>False: it is still to come.</returns>
    /// <exception cref="Exception">What it throws.</exception>
    public static async Task<bool> IsWithin(this Task coming, TimeSpan limit, TimeProvider clock)
    {
        try
        {
            await coming.WaitAsync(limit, clock);
            return true;
        }
        catch (TimeoutException) when (!coming.IsCompleted)
        {
            return false;
        }
    }
}
