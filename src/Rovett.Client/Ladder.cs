using System.Net.WebSockets;

namespace Rovett.Client;

/// <summary>Tries transports, best first: the next one is started when the one before failed, or has not opened in
/// time. The first to open wins.</summary>
static class Ladder
{
    static readonly TimeSpan Stagger = TimeSpan.FromMilliseconds(1200);

    /// <summary>Gives the link that opened first, with its first message read; the others are ended.</summary>
    /// <param name="rungs">What opens each.</param>
    /// <param name="trouble">Hears why one failed.</param>
    /// <param name="cancel">Ends it.</param>
    /// <returns>Null when none opened.</returns>
    /// <exception cref="RovettRefusedException">The service refused, whichever the transport.</exception>
    public static async Task<LiveLink?> Climb(IReadOnlyList<Func<CancellationToken, Task<LiveLink>>> rungs, Action<string> trouble,
        CancellationToken cancel)
    {
        using var others = CancellationTokenSource.CreateLinkedTokenSource(cancel);
        var tries = new List<Task<LiveLink>>();
        var open = new List<Task<LiveLink>>();
        LiveLink? winner = null;
        try
        {
            while (winner is null && (open.Count > 0 || tries.Count < rungs.Count))
            {
                if (tries.Count < rungs.Count)
                {
                    tries.Add(Opened(rungs[tries.Count], others.Token));
                    open.Add(tries[^1]);
                }
                var stagger = Task.Delay(tries.Count < rungs.Count ? Stagger : Timeout.InfiniteTimeSpan, others.Token);
                await Task.WhenAny([.. open, stagger]).ConfigureAwait(false);
                cancel.ThrowIfCancellationRequested();
                foreach (var done in open.Where(t => t.IsCompleted).ToList())
                {
                    open.Remove(done);
                    try
                    {
                        if (winner is null) winner = await done.ConfigureAwait(false);
                        else open.Add(done); // ended below
                    }
                    catch (Exception error) when (error is HttpRequestException or WebSocketException or IOException)
                    {
                        trouble(error.Message);
                    }
                    catch (RovettRefusedException) when (winner is not null)
                    {
                        // Another was let in at the same moment.
                    }
                }
            }
            return winner;
        }
        finally
        {
            await others.CancelAsync().ConfigureAwait(false);
            foreach (var late in open)
            {
                _ = late.ContinueWith(static async t => await t.Result.DisposeAsync().ConfigureAwait(false), CancellationToken.None,
                    TaskContinuationOptions.OnlyOnRanToCompletion, TaskScheduler.Default);
            }
            foreach (var late in open)
            {
                _ = late.ContinueWith(static t => _ = t.Exception, CancellationToken.None, TaskContinuationOptions.OnlyOnFaulted,
                    TaskScheduler.Default);
            }
        }
    }

    static async Task<LiveLink> Opened(Func<CancellationToken, Task<LiveLink>> open, CancellationToken cancel)
    {
        var link = await open(cancel).ConfigureAwait(false);
        try
        {
            link.First = await link.Next(cancel).ConfigureAwait(false)
                ?? throw new IOException($"The connection by {link.Transport} ended before it opened.");
            return link;
        }
        catch
        {
            await link.DisposeAsync().ConfigureAwait(false);
            throw;
        }
    }
}
