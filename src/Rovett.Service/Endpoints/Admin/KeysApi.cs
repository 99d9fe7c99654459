using System.Text.Json;
using Rovett.Core.Addresses;
using Rovett.Service.Audit;
using Rovett.Service.Credentials;
using Rovett.Service.Http;
using Rovett.Storage.Access;

namespace Rovett.Service.Endpoints.Admin;

/// <summary>API keys.</summary>
public sealed class KeysApi(ApiKeys keys, AuditTrail audit)
{
    const int MaxType = 128, MaxSource = 512;
    static readonly TimeSpan LongestOverlap = TimeSpan.FromDays(90);
    static readonly string[] Openings = ["user:", "role:", "topic:"];

    /// <summary>Creates an API key.</summary>
    /// <remarks>The key is shown in this answer and never again. <c>types</c> and <c>addresses</c> narrow what it may send
    /// and withdraw.</remarks>
    public Task<KeyAnswer> CreateKey(HttpContext context, Given<KeyRequest> body)
    {
        var (space, admin) = context.KeyCaller();
        var name = body.NameIn(body.Value.Name, "what the key is for");
        var (scopes, types, addresses) = (body.Value.Scopes ?? [], body.Value.Types ?? [], body.Value.Addresses ?? []);
        var (events, sources) = (body.Value.Events ?? [], body.Value.Sources ?? []);
        if (scopes.Count == 0 && !body.Errors.Exists(e => e.Field.StartsWith("scopes", StringComparison.Ordinal)))
        {
            body.Wrong("scopes", $"must name at least one of {string.Join(", ", ApiKeys.Scopes)}");
        }
        CheckPatterns(body, "types", types, MaxType, "a type");
        CheckPatterns(body, "events", events, MaxType, "a type of event");
        CheckPatterns(body, "sources", sources, MaxSource, "a source");
        for (int i = 0; i < addresses.Count; i++)
        {
            if (Mistake(addresses[i]) is { } wrong) body.Wrong($"addresses[{i}]", wrong);
        }
        if (scopes.Contains("admin") && types.Count + addresses.Count + events.Count + sources.Count > 0)
        {
            body.Wrong("scopes", "can't include admin if the key is narrowed: an admin key can create any other key");
        }
        body.Sound();
        var (stored, key) = keys.Make(space.Name, name, [.. scopes.Distinct()],
            new KeyLimits([.. types.Distinct()], [.. addresses.Distinct()], [.. events.Distinct()], [.. sources.Distinct()]));
        audit.Note(space.Name, admin.Actor, "api-key.made", $"key:{stored.Id} {stored.Name}", json => WriteRights(json, stored));
        context.Response.StatusCode = StatusCodes.Status201Created;
        return Task.FromResult(Answer(stored, key));
    }

    static void CheckPatterns(Given<KeyRequest> body, string field, IReadOnlyList<string> patterns, int longest, string what)
    {
        for (int i = 0; i < patterns.Count; i++)
        {
            int star = patterns[i].IndexOf('*', StringComparison.Ordinal);
            if (patterns[i].Length == 0 || patterns[i].Length > longest || (star >= 0 && star != patterns[i].Length - 1))
            {
                body.Wrong($"{field}[{i}]", $"must be {what}, or its beginning and *");
            }
        }
    }

    static string? Mistake(string address)
    {
        int star = address.IndexOf('*', StringComparison.Ordinal);
        if (star < 0) return Address.TryParse(address, out _);
        return star == address.Length - 1 && Openings.Any(o => address.StartsWith(o, StringComparison.Ordinal)) ? null
            : "must be an address, or the beginning of addresses and *: user:*, role:deck*, topic:berth/*";
    }

    /// <summary>Replaces an API key.</summary>
    /// <remarks>Creates a key that may do the same; the old one is accepted for <c>overlap</c>, so that both can be in use.</remarks>
    public Task<KeyAnswer> RotateKey(HttpContext context, Given<RotateRequest> body)
    {
        var (space, admin) = context.KeyCaller();
        if (!Durations.TryParse(body.Value.Overlap ?? "", out var overlap) || overlap > LongestOverlap)
        {
            if (!body.Has("overlap") || body.IsSound("overlap"))
            {
                body.Wrong("overlap", "must say how long the old key is still accepted: now, or a number with s, m, h or d such as 24h, " +
                    $"at most {LongestOverlap.TotalDays:0}d");
            }
        }
        body.Sound();
        var id = (string)context.Request.RouteValues["id"]!;
        if (keys.Rotate(space.Name, id, overlap) is not var (stored, key)) throw Unknown().ToException();
        audit.Note(space.Name, admin.Actor, "api-key.rotated", $"key:{id}", json =>
        {
            json.WriteString("followedBy", stored.Id);
            json.WriteNumber("overlapSeconds", (long)overlap.TotalSeconds);
        });
        context.Response.StatusCode = StatusCodes.Status201Created;
        return Task.FromResult(Answer(stored, key));
    }

    /// <summary>Lists the API keys.</summary>
    public Task<KeyList> ListKeys(HttpContext context) =>
        Task.FromResult(new KeyList { Keys = [.. keys.Of(context.KeyCaller().Space.Name).Select(k => Answer(k, null))] });

    /// <summary>Shows an API key.</summary>
    public Task<KeyAnswer> ShowKey(HttpContext context)
    {
        var id = (string)context.Request.RouteValues["id"]!;
        return Task.FromResult(keys.Of(context.KeyCaller().Space.Name).FirstOrDefault(k => k.Id == id) is { } stored
            ? Answer(stored, null)
            : throw Unknown().ToException());
    }

    /// <summary>Removes an API key.</summary>
    /// <remarks>It is refused from now on, and streams opened with it end.</remarks>
    public Task<NoAnswer> RemoveKey(HttpContext context)
    {
        var (space, admin) = context.KeyCaller();
        var id = (string)context.Request.RouteValues["id"]!;
        if (!keys.Revoke(space.Name, id)) throw Unknown().ToException();
        audit.Note(space.Name, admin.Actor, "api-key.revoked", $"key:{id}");
        return NoAnswer.To(context);
    }

    static Problem Unknown() =>
        new(404, "unknown-key", "No such key", "This space has no key with this id, or it was removed before.",
        "List the keys: rovett key list.");

    static KeyAnswer Answer(StoredApiKey stored, string? key) => new()
    {
        Id = stored.Id,
        Name = stored.Name,
        Scopes = stored.Scopes.Split(','),
        Types = stored.Types.Length > 0 ? [.. ApiKeys.ListOf(stored.Types)] : null,
        Addresses = stored.Addresses.Length > 0 ? [.. ApiKeys.ListOf(stored.Addresses)] : null,
        Events = stored.Events.Length > 0 ? [.. ApiKeys.ListOf(stored.Events)] : null,
        Sources = stored.Sources.Length > 0 ? [.. ApiKeys.ListOf(stored.Sources)] : null,
        Created = new StoredTime(stored.Created),
        LastUsed = Time(stored.LastUsed),
        Ends = Time(stored.Ends),
        Revoked = Time(stored.Revoked),
        Key = key,
    };

    static StoredTime? Time(long? micros) => micros is { } at ? new StoredTime(at) : null;

    static void WriteRights(Utf8JsonWriter json, StoredApiKey stored)
    {
        Write("scopes", stored.Scopes.Split(','));
        if (stored.Types.Length > 0) Write("types", ApiKeys.ListOf(stored.Types));
        if (stored.Addresses.Length > 0) Write("addresses", ApiKeys.ListOf(stored.Addresses));
        if (stored.Events.Length > 0) Write("events", ApiKeys.ListOf(stored.Events));
        if (stored.Sources.Length > 0) Write("sources", ApiKeys.ListOf(stored.Sources));

        void Write(string name, IEnumerable<string> texts)
        {
            json.WriteStartArray(name);
            foreach (var text in texts) json.WriteStringValue(text);
            json.WriteEndArray();
        }
    }
}
