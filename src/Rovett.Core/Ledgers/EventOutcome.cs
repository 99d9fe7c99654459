using System.Buffers;
using System.Text.Json;

namespace Rovett.Core.Ledgers;

/// <summary>A notification that came of an event.</summary>
/// <param name="Id">Its id.</param>
/// <param name="Rule">The rule that made it.</param>
public readonly record struct MadeNotification(NotificationId Id, string Rule);

/// <summary>A gathering that an event is in.</summary>
/// <param name="Id">The id of the notification that closes it.</param>
/// <param name="Rule">The rule that gathers.</param>
/// <param name="Until">When it closes, as the service shows times.</param>
public readonly record struct MadeGathering(NotificationId Id, string Rule, StoredTime Until);

/// <summary>A rule that failed for an event.</summary>
/// <param name="Rule">The rule.</param>
/// <param name="Reason">Why.</param>
public readonly record struct FailedRule(string Rule, string Reason);

/// <summary>What came of an event. A repeat is answered the same.</summary>
public sealed record EventOutcome
{
    /// <summary>The rules that matched, in the order written.</summary>
    public IReadOnlyList<string> Matched { get; init; } = [];
    /// <summary>The notifications made.</summary>
    public IReadOnlyList<MadeNotification> Notifications { get; init; } = [];
    /// <summary>The gatherings it is in.</summary>
    public IReadOnlyList<MadeGathering> Gatherings { get; init; } = [];
    /// <summary>The rules that failed, when the event was set aside for them.</summary>
    public IReadOnlyList<FailedRule> Failed { get; init; } = [];
    /// <summary>Which rules failed and why, in one text; null: none did.</summary>
    public string? WhyFailed => Failed.Count == 0 ? null : string.Join("; ", Failed.Select(f => $"{f.Rule}: {f.Reason}"));
    /// <summary>The number under which it is set aside; null: it is not.</summary>
    public long? SetAside { get; init; }
    /// <summary>Some of it was made by a retry, after later events.</summary>
    public bool IsLate { get; init; }
    /// <summary>The event had been taken before.</summary>
    public bool IsRepeated { get; init; }
    /// <summary>For an event that no rule matched: the nearest type that a rule is for.</summary>
    public string? Nearest { get; init; }

    /// <summary>The stored form.</summary>
    public byte[] ToBytes()
    {
        var buffer = new ArrayBufferWriter<byte>(256);
        using (var json = new Utf8JsonWriter(buffer, JsonText.WriterOptions))
        {
            json.WriteStartObject();
            json.WriteStartArray("m");
            foreach (var rule in Matched) json.WriteStringValue(rule);
            json.WriteEndArray();
            if (Notifications.Count > 0) WriteAll(json, "n", Notifications, (n) => (n.Id.ToString(), n.Rule, null));
            if (Gatherings.Count > 0) WriteAll(json, "g", Gatherings, (g) => (g.Id.ToString(), g.Rule, g.Until.Micros));
            if (Failed.Count > 0) WriteAll(json, "f", Failed, (f) => (f.Reason, f.Rule, null));
            if (SetAside is { } number) json.WriteNumber("a", number);
            if (IsLate) json.WriteBoolean("l", true);
            json.WriteEndObject();
        }
        return buffer.WrittenSpan.ToArray();
    }

    static void WriteAll<T>(Utf8JsonWriter json, string name, IReadOnlyList<T> items, Func<T, (string, string, long?)> parts)
    {
        json.WriteStartArray(name);
        foreach (var item in items)
        {
            var (first, rule, time) = parts(item);
            json.WriteStartArray();
            json.WriteStringValue(first);
            json.WriteStringValue(rule);
            if (time is { } t) json.WriteNumberValue(t);
            json.WriteEndArray();
        }
        json.WriteEndArray();
    }

    /// <summary>Reads the stored form.</summary>
    public static EventOutcome Parse(ReadOnlySpan<byte> bytes)
    {
        var root = JsonElement.Parse(bytes);
        IEnumerable<JsonElement> All(string name) => root.TryGetProperty(name, out var list) ? list.EnumerateArray() : [];
        return new EventOutcome
        {
            Matched = [.. All("m").Select(r => r.GetString()!)],
            Notifications = [.. All("n").Select(n => new MadeNotification(IdOf(n[0]), n[1].GetString()!))],
            Gatherings = [.. All("g").Select(g => new MadeGathering(IdOf(g[0]), g[1].GetString()!, new StoredTime(g[2].GetInt64())))],
            Failed = [.. All("f").Select(f => new FailedRule(f[1].GetString()!, f[0].GetString()!))],
            SetAside = root.TryGetProperty("a", out var number) ? number.GetInt64() : null,
            IsLate = root.TryGetProperty("l", out _),
        };
    }

    static NotificationId IdOf(JsonElement text) => NotificationId.TryParse(text.GetString()!, out var id) ? id : default;
}
