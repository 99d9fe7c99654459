using System.Globalization;
using Rovett.Service.Diagnostics;
using Rovett.Service.Events;
using StackExchange.Redis;

namespace Rovett.Service.Intakes.Redis;

/// <summary>Reads streams from where the ledger says that they are read to: no consumer group, nothing to acknowledge.</summary>
sealed class RedisSource(RedisKind kind, Inlet inlet) : IIntakeSource
{
    const string Whole = "event", Data = "data";
    static readonly TimeSpan ShortestPause = TimeSpan.FromMilliseconds(10), LongestPause = TimeSpan.FromMilliseconds(200);

    readonly Dictionary<string, Place> read = [];
    readonly Every looking = new(TimeSpan.FromSeconds(2), inlet.Clock);
    ConnectionMultiplexer? connection;

    public async Task Run(CancellationToken drain)
    {
        var redis = await Connect();
        var stored = await inlet.Places();
        foreach (var stream in kind.Streams) read[stream] = await Begin(redis, stream, stored.GetValueOrDefault(stream));
        inlet.Progress.Is(IntakeState.Running);
        for (var pause = ShortestPause; ;)
        {
            drain.ThrowIfCancellationRequested();
            await Look(redis);
            int came = 0;
            foreach (var stream in kind.Streams) came += await Take(redis, stream);
            inlet.Progress.HasTold();
            pause = came > 0 ? ShortestPause : pause * 2 < LongestPause ? pause * 2 : LongestPause;
            if (came < inlet.Settings.Batch) await Task.Delay(pause, inlet.Clock, drain);
        }
    }

    async Task<IDatabase> Connect()
    {
        connection = await ConnectionMultiplexer.ConnectAsync(kind.Options());
        return connection.GetDatabase();
    }

    /// <summary>Where a stream is read from. One that is new here begins with what is there, or behind it.</summary>
    async Task<Place> Begin(IDatabase redis, string stream, string? stored)
    {
        if (stored is not null) return Place.Parse(stored);
        var facts = await StreamFacts.Of(redis, stream);
        var begin = kind.FromStart ? new Place("0-0", facts.Removed) : new Place(facts.Last ?? "0-0", facts.Added);
        await inlet.Remember(begin.ToString(), stream);
        return begin;
    }

    async Task<int> Take(IDatabase redis, string stream)
    {
        var from = read[stream];
        var entries = await redis.StreamReadAsync(stream, from.Id, inlet.Settings.Batch);
        if (entries.Length == 0) return 0;
        await inlet.Take([.. entries.Select((entry, i) => Item(stream, entry, from.Number + i + 1))]);
        read[stream] = new Place(entries[^1].Id.ToString(), from.Number + entries.Length);
        return entries.Length;
    }

    static SourceItem Item(string stream, StreamEntry entry, long number)
    {
        var id = entry.Id.ToString();
        byte[] body = [];
        string? type = null;
        var attributes = new List<KeyValuePair<string, string>>();
        foreach (var field in entry.Values)
        {
            var name = field.Name.ToString();
            if (name == Whole)
            {
                body = (byte[])field.Value!;
                attributes.Clear();
                type = "application/cloudevents+json";
                break;
            }
            if (name == Data) body = (byte[])field.Value!;
            else if (name == "datacontenttype") type = field.Value;
            else attributes.Add(KeyValuePair.Create(name, field.Value.ToString()));
        }
        if (body.Length > 0 && attributes.Count > 0) type ??= "application/json";
        return new SourceItem(new RawEvent(body) { ContentType = type, Attributes = attributes })
        {
            Origin = $"{stream} {id}",
            Part = stream,
            Place = () => new Place(id, number).ToString(),
            Since = long.TryParse(id.Split('-')[0], NumberStyles.None, CultureInfo.InvariantCulture, out long ms)
                ? DateTimeOffset.FromUnixTimeMilliseconds(ms) : null,
        };
    }

    /// <summary>Counts what waits, and finds out whether something was trimmed before it was read.</summary>
    async Task Look(IDatabase redis)
    {
        if (!looking.IsDue()) return;
        long behind = 0;
        foreach (var stream in kind.Streams)
        {
            var facts = await StreamFacts.Of(redis, stream);
            var place = read[stream];
            long lost = facts.Removed - place.Number;
            if (lost > 0)
            {
                inlet.Progress.HasLost($"{lost} {(lost == 1 ? "entry" : "entries")} of {stream} after {place.Id} were trimmed or deleted " +
                    "there before they were read");
                read[stream] = place = place with { Number = facts.Removed };
            }
            behind += Math.Max(0, facts.Added - place.Number);
        }
        inlet.Progress.HasBehind(behind);
    }

    /// <summary>How far a stream is read.</summary>
    /// <param name="Id">The last entry's id.</param>
    /// <param name="Number">How many entries had been added to the stream with it.</param>
    readonly record struct Place(string Id, long Number)
    {
        public static Place Parse(string text) => text.Split(' ') is [var id, var number]
            ? new Place(id, long.Parse(number, CultureInfo.InvariantCulture)) : new Place(text, 0);

        public override string ToString() => string.Create(CultureInfo.InvariantCulture, $"{Id} {Number}");
    }

    /// <summary>What the server knows of a stream.</summary>
    /// <param name="Added">Entries that were ever added.</param>
    /// <param name="Removed">Those of them that are not there any more.</param>
    /// <param name="Last">The newest id.</param>
    sealed record StreamFacts(long Added, long Removed, string? Last)
    {
        public static async Task<StreamFacts> Of(IDatabase redis, string stream)
        {
            if (!await redis.KeyExistsAsync(stream)) return new StreamFacts(0, 0, null);
            var info = (RedisResult[])(await redis.ExecuteAsync("XINFO", "STREAM", stream))!;
            long length = 0, added = 0;
            string? last = null;
            for (int i = 0; i + 1 < info.Length; i += 2)
            {
                switch ((string?)info[i])
                {
                    case "length": length = (long)info[i + 1]; break;
                    case "entries-added": added = (long)info[i + 1]; break;
                    case "last-generated-id": last = (string?)info[i + 1]; break;
                }
            }
            return new StreamFacts(added, added - length, last);
        }
    }

    public async Task<IReadOnlyList<string>> Test(CancellationToken stop)
    {
        var redis = await Connect();
        var found = new List<string> { $"connected to {kind.Server}" };
        foreach (var stream in kind.Streams)
        {
            found.Add(await redis.KeyExistsAsync(stream) ? $"{stream} has {await redis.StreamLengthAsync(stream)} entries"
                : $"{stream} is not there yet; it is read once something is added");
        }
        return found;
    }

    public bool IsFailure(Exception error) => error is RedisException or TimeoutException or IOException
        or System.Net.Sockets.SocketException or ObjectDisposedException;

    public async ValueTask DisposeAsync()
    {
        if (connection is not null) await connection.DisposeAsync();
    }
}
