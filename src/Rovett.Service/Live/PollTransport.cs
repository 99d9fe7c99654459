using System.Buffers;
using System.Globalization;

namespace Rovett.Service.Live;

/// <summary>Requests that wait (long poll), for networks that let nothing else through. The session lives on between them; each request
/// has a number, and one that is repeated because its answer was lost gets the same answer again.</summary>
sealed class PollTransport(TimeProvider clock) : ISessionOutput
{
    /// <summary>How long a request waits when it does not say.</summary>
    public static readonly TimeSpan UsualWait = TimeSpan.FromSeconds(25);

    /// <summary>The longest a request waits.</summary>
    public static readonly TimeSpan LongestWait = TimeSpan.FromSeconds(55);

    /// <summary>A session that is not asked for so long is over.</summary>
    public static readonly TimeSpan Patience = TimeSpan.FromSeconds(15);

    static readonly TimeSpan LastWordsPatience = TimeSpan.FromSeconds(2);
    const int Most = 24 * 1024;

    readonly Lock gate = new();
    readonly ArrayBufferWriter<byte> pending = new(1024);
    readonly TaskCompletionSource drained = new(TaskCreationOptions.RunContinuationsAsynchronously);
    TaskCompletionSource? room, some; // the session waits for room; a request for something
    byte[] last = [];
    int turn = -1, asking;
    long idleSince = clock.GetTimestamp();
    bool ended, isCut;

    /// <inheritdoc/>
    public ValueTask Write(ReadOnlyMemory<byte> bytes)
    {
        lock (gate)
        {
            if (isCut) throw new IOException("The device stopped polling.");
            pending.Write(bytes.Span);
            some?.TrySetResult();
            if (pending.WrittenCount < Most) return default;
            room = new TaskCompletionSource(TaskCreationOptions.RunContinuationsAsynchronously);
            return new ValueTask(room.Task);
        }
    }

    /// <summary>Runs the session until it ends, or is no longer polled.</summary>
    public async Task Run(LiveSession session)
    {
        await using var idle = clock.CreateTimer(_ =>
        {
            lock (gate)
            {
                if (asking > 0 || clock.GetElapsedTime(idleSince) < Patience) return;
            }
            try
            {
                Cut();
                session.Closed();
            }
            catch (Exception error)
            {
                session.Faults.Bug(session.Space.Name, "poll idle", error);
            }
        }, null, TimeSpan.FromSeconds(1), TimeSpan.FromSeconds(1));
        try
        {
            await session.Pump(this);
        }
        catch (IOException)
        {
            return; // it was cut
        }
        lock (gate)
        {
            ended = true;
            some?.TrySetResult();
            if (pending.WrittenCount == 0) return;
        }
        await Task.WhenAny(drained.Task, Task.Delay(LastWordsPatience, clock));
    }

    /// <summary>Ends it: nothing more is given out.</summary>
    public void Cut()
    {
        lock (gate)
        {
            isCut = ended = true;
            room?.TrySetException(new IOException("The device stopped polling."));
            some?.TrySetResult();
            drained.TrySetResult();
        }
    }

    /// <summary>The messages since the request before, as soon as there are any.</summary>
    /// <param name="number">The request's: one more than that of the last one answered, or the same again.</param>
    /// <param name="wait">How long it waits for something.</param>
    /// <param name="gone">The request is no longer waited for.</param>
    /// <returns>A JSON array; null when the session is over and everything was given out.</returns>
    /// <exception cref="ProblemException">409: another number, or a newer request took its place.</exception>
    public async Task<byte[]?> Take(int number, TimeSpan wait, CancellationToken gone)
    {
        TaskCompletionSource mine;
        lock (gate)
        {
            if (number == turn) return last;
            if (number != turn + 1)
                throw new Problem(409, "poll-out-of-turn", "Poll out of turn",
                    string.Create(CultureInfo.InvariantCulture, $"The last answered turn is {turn}; this request has {number}."),
                    "Ask with turn one higher than that of the last answer, or open a new session with the newest cursor.").ToException();
            asking++;
            some?.TrySetCanceled(CancellationToken.None); // one at a time: the newest
            mine = some = new TaskCompletionSource(TaskCreationOptions.RunContinuationsAsynchronously);
            if (pending.WrittenCount > 0 || ended) mine.TrySetResult();
        }
        try
        {
            await mine.Task.WaitAsync(wait, clock, gone);
        }
        catch (TimeoutException)
        {
            // Then the answer is empty.
        }
        catch (TaskCanceledException) when (mine.Task.IsCanceled)
        {
            throw new Problem(409, "poll-superseded", "Superseded by a newer poll",
                "Only one poll of a session waits at a time.", "Wait for the answer before asking again.").ToException();
        }
        finally
        {
            lock (gate)
            {
                asking--;
                idleSince = clock.GetTimestamp();
                if (some == mine) some = null;
            }
        }
        return Answer(number);
    }

    byte[]? Answer(int number)
    {
        lock (gate)
        {
            if (ended && pending.WrittenCount == 0) return null;
            if (number != turn + 1) return number == turn ? last : "[]"u8.ToArray(); // two of one number, and both woken
            // What was written ends in a comma.
            last = [(byte)'[', .. pending.WrittenCount > 0 ? pending.WrittenSpan[..^1] : default, (byte)']'];
            turn = number;
            pending.ResetWrittenCount();
            room?.TrySetResult();
            room = null;
            if (ended) drained.TrySetResult();
            return last;
        }
    }
}
