using System.Text.Json.Serialization;

namespace Rovett.Service.Meters;

/// <summary>What was counted in a span of time. Sums, except where it says otherwise.</summary>
public sealed class Counted
{
    const double Finest = 0.0001, StepsPerDoubling = 4;

    /// <summary>Notifications stored.</summary>
    public long Stored { get; set; }

    /// <summary>Events taken.</summary>
    public long Events { get; set; }

    /// <summary>Notifications sent to devices.</summary>
    public long Sent { get; set; }

    /// <summary>Notifications received, once for each person.</summary>
    public long Received { get; set; }

    /// <summary>Requests refused.</summary>
    public long Refused { get; set; }

    /// <summary>Bugs and failures of the store.</summary>
    public long Faults { get; set; }

    /// <summary>The most sessions at a time, by transport.</summary>
    public Dictionary<string, long> Sessions { get; set; } = [];

    /// <summary>The most notifications at a time that were sent and not acknowledged.</summary>
    public long Waiting { get; set; }

    /// <summary>The most bytes of the history.</summary>
    public long StoreBytes { get; set; }

    /// <summary>How many receipts took how long: steps of a quarter of a doubling from a tenth of a millisecond.</summary>
    public Dictionary<int, long> Delays { get; set; } = [];

    /// <summary>Nothing was counted, and nobody was connected.</summary>
    [JsonIgnore]
    public bool IsEmpty =>
        Stored + Events + Sent + Received + Refused + Faults + Waiting == 0 && Sessions.Values.All(n => n == 0) && Delays.Count == 0;

    /// <summary>Adds a time.</summary>
    public void AddDelay(double seconds)
    {
        int step = seconds <= Finest ? 0 : (int)Math.Ceiling(Math.Log2(seconds / Finest) * StepsPerDoubling);
        Delays[step] = Delays.GetValueOrDefault(step) + 1;
    }

    /// <summary>The time that a part of the receipts did not exceed, in seconds, up to a fifth too long; null: there are none.</summary>
    /// <param name="part">0.99 for 99 %.</param>
    public double? Delay(double part)
    {
        long all = Delays.Values.Sum(), seen = 0;
        if (all == 0) return null;
        foreach (var (step, count) in Delays.OrderBy(d => d.Key))
        {
            seen += count;
            if (seen >= all * part) return Finest * Math.Pow(2, step / StepsPerDoubling);
        }
        return null;
    }

    /// <summary>Adds what another span counted.</summary>
    public void Add(Counted other)
    {
        Stored += other.Stored;
        Events += other.Events;
        Sent += other.Sent;
        Received += other.Received;
        Refused += other.Refused;
        Faults += other.Faults;
        Waiting = Math.Max(Waiting, other.Waiting);
        StoreBytes = Math.Max(StoreBytes, other.StoreBytes);
        foreach (var (transport, most) in other.Sessions) Sessions[transport] = Math.Max(Sessions.GetValueOrDefault(transport), most);
        foreach (var (step, count) in other.Delays) Delays[step] = Delays.GetValueOrDefault(step) + count;
    }
}

/// <summary>Reads and writes what was counted.</summary>
[JsonSourceGenerationOptions(PropertyNamingPolicy = JsonKnownNamingPolicy.CamelCase,
    DefaultIgnoreCondition = JsonIgnoreCondition.WhenWritingDefault)]
[JsonSerializable(typeof(Counted))]
sealed partial class CountedJson : JsonSerializerContext;
