using System.Globalization;
using System.Text.Json.Nodes;
using System.Xml;

namespace Rovett.Client;

/// <summary>How soon a notification matters (RFC 8030).</summary>
public enum Urgency
{
    /// <summary>On the next good occasion.</summary>
    VeryLow,
    /// <summary>When nothing else matters.</summary>
    Low,
    /// <summary>As usual.</summary>
    Normal,
    /// <summary>At once.</summary>
    High,
}

/// <summary>How much of a notification is sent to devices.</summary>
public enum Carry
{
    /// <summary>All of it.</summary>
    Full,
    /// <summary>All but body and data.</summary>
    Summary,
    /// <summary>Neither title, link, body nor data.</summary>
    Reference,
}

/// <summary>A state that a notification must reach within a time.</summary>
/// <param name="Within">The time, from the send on.</param>
/// <param name="By">The state: <c>read</c>, <c>received</c>, <c>handled</c> or <c>taken</c>.</param>
/// <param name="Each">For each person, not for anyone of them.</param>
/// <param name="Otherwise">What is done when it is missed; null: nothing.</param>
public sealed record Deadline(TimeSpan Within, string By = "read", bool Each = false, IReadOnlyList<Otherwise>? Otherwise = null);

/// <summary>A notification to send. Bounds of each member: docs/protocol.md.</summary>
/// <param name="Type">The kind of event, in your words: <c>engine.check.due</c>.</param>
/// <param name="Title">One line that people read.</param>
/// <param name="To">For whom: <c>user:mara</c>, <c>role:engineer</c>, <c>topic:berth/3</c>, <c>everyone</c>.</param>
public sealed record Notification(string Type, string Title, params string[] To)
{
    /// <summary>Users and roles to leave out.</summary>
    public IReadOnlyList<string> Except { get; init; } = [];
    /// <summary>The subject it is about: <c>vessel/turnstone</c>.</summary>
    public string? Subject { get; init; }
    /// <summary>More text.</summary>
    public string? Body { get; init; }
    /// <summary>Where it leads: relative, or http(s).</summary>
    public string? Link { get; init; }
    /// <summary>How soon it matters; null: as usual.</summary>
    public Urgency? Urgency { get; init; }
    /// <summary>After this time it is of no use, and leaves lists and counts; whole seconds. Null: it stays.</summary>
    public TimeSpan? Ttl { get; init; }
    /// <summary>A newer one in the same slot takes its place.</summary>
    public string? Slot { get; init; }
    /// <summary>One member of the role in <see cref="To"/> may take it over.</summary>
    public bool Takeable { get; init; }
    /// <summary>… for so long; null: until it is given back.</summary>
    public TimeSpan? TakeableFor { get; init; }
    /// <summary>States it must reach in time.</summary>
    public IReadOnlyList<Deadline> Deadlines { get; init; } = [];
    /// <summary>False: only for who is connected now, kept nowhere.</summary>
    public bool Store { get; init; } = true;
    /// <summary>True: people are always told of it; mutes and quiet hours don't apply.</summary>
    public bool Always { get; init; }
    /// <summary>What is sent to devices; the rest they fetch from the inbox.</summary>
    public Carry Carry { get; init; }
    /// <summary>Data for your handlers.</summary>
    public JsonNode? Data { get; init; }

    /// <summary>As it goes over the wire.</summary>
    public JsonObject ToJson()
    {
        var json = new JsonObject { ["to"] = Texts(To), ["type"] = Type, ["title"] = Title };
        if (Except.Count > 0) json["except"] = Texts(Except);
        foreach (var (name, text) in new[] { ("subject", Subject), ("body", Body), ("link", Link), ("slot", Slot) })
        {
            if (text is not null) json[name] = text;
        }
        if (Urgency is { } urgency)
        {
            json["urgency"] = urgency == Client.Urgency.VeryLow ? "very-low" : urgency.ToString().ToLowerInvariant();
        }
        if (Ttl is { } ttl) json["ttl"] = (long)ttl.TotalSeconds;
        if (Takeable || TakeableFor is not null)
        {
            json["takeable"] = TakeableFor is { } time ? new JsonObject { ["for"] = XmlConvert.ToString(time) } : true;
        }
        if (Deadlines.Count > 0) json["deadlines"] = new JsonArray([.. Deadlines.Select(d => (JsonNode)Json(d))]);
        if (!Store) json["store"] = false;
        if (Always) json["always"] = true;
        if (Carry != Carry.Full) json["carry"] = Carry.ToString().ToLowerInvariant();
        if (Data is not null) json["data"] = Data.DeepClone();
        return json;
    }

    static JsonObject Json(Deadline deadline)
    {
        var json = new JsonObject
        {
            ["by"] = deadline.By,
            ["within"] = XmlConvert.ToString(deadline.Within),
            ["who"] = deadline.Each ? "each" : "anyone"
        };
        if (deadline.Otherwise is { Count: > 0 } all) json["otherwise"] = new JsonArray([.. all.Select(o => (JsonNode)o.ToJson())]);
        return json;
    }

    static JsonArray Texts(IEnumerable<string> texts) => new([.. texts.Select(t => (JsonNode)t)]);
}

/// <summary>The recipients by one address.</summary>
/// <param name="Address">The address.</param>
/// <param name="Users">How many hold it.</param>
/// <param name="Connected">How many of them are connected.</param>
/// <param name="Stored">For how many it is stored.</param>
/// <param name="Known">False: nobody by this name has shown a credential.</param>
public sealed record Reach(string Address, long Users, long Connected, long Stored, bool Known);

/// <summary>The result of a send.</summary>
/// <param name="Id">The notification's id; null for one that is not stored.</param>
/// <param name="Position">Its place in the history; null for one that is not stored.</param>
/// <param name="Reach">The recipients, by address.</param>
/// <param name="Repeated">It had been sent before with the same idempotency key.</param>
public sealed record SentNotification(string? Id, long? Position, IReadOnlyList<Reach> Reach, bool Repeated)
{
    internal static SentNotification From(JsonNode answer) => new((string?)answer["id"], (long?)answer["position"],
        [.. (answer["reach"] as JsonArray ?? []).Select(
        r => new Reach((string?)r!["address"] ?? "", Number(r["users"]), Number(r["connected"]), Number(r["stored"]),
        (bool?)r["known"] ?? true))],
        (bool?)answer["repeated"] ?? false);

    static long Number(JsonNode? node) => node is null ? 0 : long.Parse(node.ToJsonString(), CultureInfo.InvariantCulture);
}
