namespace Rovett.Service.Limits;

/// <summary>How many sends of one space are carried out together while another space sends too. What is beyond waits by itself, and takes
/// neither places nor processors from the other.</summary>
/// <param name="share">How many.</param>
/// <param name="clock">Tells the time.</param>
public sealed class SpaceShares(int share, TimeProvider clock)
{
    int share = share;

    /// <summary>How many sends.</summary>
    public int Share { get => Volatile.Read(ref share); set => Volatile.Write(ref share, value); }

    const int MostWaiting = 250, ItemsForEach = 16;
    static readonly TimeSpan Crowded = TimeSpan.FromMilliseconds(250), Patience = TimeSpan.FromSeconds(2);

    sealed class Line
    {
        public int Inside;
        public readonly LinkedList<(TaskCompletionSource Turn, int Places)> Waiting = [];
    }

    readonly Lock gate = new();
    readonly Dictionary<string, Line> lines = [];
    string last = "";
    long? crowdedSince; // two spaces sent, one after the other

    /// <summary>How many places something takes.</summary>
    /// <param name="items">How many notifications or events it has.</param>
    public int PlacesOf(int items) => Math.Clamp(items / ItemsForEach, 1, share);

    /// <summary>Takes places, to be given back by <see cref="Leave"/>.</summary>
    /// <returns>False when too many wait, or for too long.</returns>
    public async ValueTask<bool> Enter(string space, int places, CancellationToken cancel)
    {
        LinkedListNode<(TaskCompletionSource Turn, int Places)> me;
        Line? line;
        lock (gate)
        {
            if (space != last)
            {
                if (last.Length > 0) crowdedSince = clock.GetTimestamp();
                last = space;
            }
            if (!lines.TryGetValue(space, out line)) lines[space] = line = new Line();
            if (line.Waiting.Count == 0 && HasRoom(line, places))
            {
                line.Inside += places;
                return true;
            }
            if (line.Waiting.Count >= MostWaiting) return false;
            me = line.Waiting.AddLast((new TaskCompletionSource(TaskCreationOptions.RunContinuationsAsynchronously), places));
        }
        try
        {
            await me.Value.Turn.Task.WaitAsync(Patience, clock, cancel);
            return true;
        }
        catch (Exception error) when (error is TimeoutException or OperationCanceledException)
        {
            lock (gate)
            {
                if (me.List is not null)
                {
                    line.Waiting.Remove(me);
                    return false;
                }
            }
            return true; // it had its turn just then
        }
    }

    bool HasRoom(Line line, int places) => line.Inside == 0 || line.Inside + places <= share
        || crowdedSince is not { } since || clock.GetElapsedTime(since) > Crowded;

    /// <summary>Gives places back.</summary>
    public void Leave(string space, int places)
    {
        lock (gate)
        {
            var line = lines[space];
            line.Inside -= places;
            while (line.Waiting.First is { } first && HasRoom(line, first.Value.Places))
            {
                line.Waiting.Remove(first);
                line.Inside += first.Value.Places;
                first.Value.Turn.SetResult();
            }
            if (line.Inside == 0 && line.Waiting.Count == 0) lines.Remove(space);
        }
    }
}
