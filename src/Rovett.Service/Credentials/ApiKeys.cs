using System.Collections.Concurrent;
using System.Text.Json;
using Rovett.Service.Spaces;
using Rovett.Storage.Sqlite;

namespace Rovett.Service.Credentials;

/// <summary>Checks backends' API keys: hashed at rest, of one space, with scopes.</summary>
public sealed class ApiKeys(AccessStore store, TimeProvider clock)
{
    internal static readonly object ActorItem = new();

    /// <summary>What a key may be for.</summary>
    public static readonly IReadOnlyList<string> Scopes = ["send", "read", "admin"];
    const long TouchEvery = 60_000_000;
    const int MostKnown = 10_000;

    // Replaced, never cleared: who looked a key up before it was revoked puts it where nobody looks any more.
    volatile ConcurrentDictionary<string, (ApiKey Key, long Touched)> known = new();

    /// <summary>Hears of a key that was revoked: its space and its id.</summary>
    public event Action<string, string>? Revoked;

    /// <summary>Makes a key; the answer's second part is shown once and stored nowhere.</summary>
    public (StoredApiKey Stored, string Key) Make(string space, string name, IEnumerable<string> scopes,
        IReadOnlyList<string>? types = null, IReadOnlyList<string>? addresses = null)
    {
        var key = Secrets.New(Secrets.KeyPrefix);
        return (Store(key, space, name, scopes, types, addresses), key);
    }

    /// <summary>Stores a key that was made before.</summary>
    public StoredApiKey Store(string key, string space, string name, IEnumerable<string> scopes, IReadOnlyList<string>? types = null,
        IReadOnlyList<string>? addresses = null)
    {
        var stored = new StoredApiKey(Secrets.NewId(), space, name, string.Join(',', scopes), TextOf(types), TextOf(addresses), Now, null,
            null, null);
        store.AddKey(stored, Secrets.Hash(key));
        return stored;
    }

    /// <summary>Makes a key that may do what another may, which ends by itself after a time.</summary>
    /// <returns>Null when there is no such key, or it holds no more.</returns>
    public (StoredApiKey Stored, string Key)? Rotate(string space, string id, TimeSpan overlap)
    {
        if (store.FindKey(space, id) is not { Revoked: null } old || old.Ends <= Now) return null;
        var made = Make(space, old.Name, old.Scopes.Split(','), ListOf(old.Types), ListOf(old.Addresses));
        store.EndKey(space, id, Now + (long)overlap.TotalMicroseconds);
        known = new();
        return made;
    }

    /// <summary>Lets a request in that shows a key with a scope; <c>admin</c> covers the others.</summary>
    /// <exception cref="ProblemException">401 or 403, telling apart missing, unknown, revoked, ended, another space's,
    /// too narrow.</exception>
    public ApiKey Require(HttpContext context, SpaceRuntime space, string scope)
    {
        if (Bearer.Of(context) is not { } text)
            throw new Problem(401, "api-key-missing", "An API key is missing", "This path is for backends and no credential was shown.",
                "Send 'Authorization: Bearer rovett_key_…'; rovett serve prints the first key when it first starts.").ToException();
        if (!text.StartsWith(Secrets.KeyPrefix, StringComparison.Ordinal))
            throw new Problem(401, "token-for-api-key", "That is no API key",
                "This path is for backends, and something else than an API key was shown.",
                "Send a key that begins with rovett_key_; a user's token can't send.").ToException();
        var cache = known;
        if (!cache.TryGetValue(text, out var found) || found.Touched < Now - TouchEvery)
        {
            var stored = store.FindKey(Secrets.Hash(text));
            if (stored is null)
                throw new Problem(401, "api-key-unknown", "The API key is not known",
                    "No such key was ever made here, or the data folder is another one.",
                    "Check it for a missing end, and that the service runs on the data folder that made it.").ToException();
            if (stored.Revoked is not null)
                throw new Problem(401, "api-key-revoked", "The API key was revoked",
                    $"The key '{stored.Name}' was revoked at {new StoredTime(stored.Revoked.Value)}.",
                    "Use another key; rovett key make makes one.").ToException();
            store.TouchKey(stored.Id, Now);
            if (cache.Count > MostKnown) known = cache = new();
            cache[text] = found = (new ApiKey(stored), Now);
        }
        var key = found.Key;
        if (key.Stored.Ends <= Now)
            throw new Problem(401, "api-key-ended", "The API key has ended",
                $"The key '{key.Stored.Name}' was followed by another, and held until {new StoredTime(key.Stored.Ends.Value)}.",
                "Use the key that followed it.").ToException();
        context.Items[ActorItem] = (key.Stored.Space, key.Actor);
        if (key.Stored.Space != space.Name)
            throw new Problem(403, "api-key-of-another-space", "The API key is of another space",
                $"It was not made for the space '{space.Name}'.",
                "Use this space's key, or the path of the space the key was made for.").ToException();
        if (!key.Has(scope))
            throw new Problem(403, "api-key-scope", "The API key may not do this",
                $"This needs the scope '{scope}'; the key '{key.Stored.Name}' has {key.Stored.Scopes}.",
                $"Use a key with the scope '{scope}'.").ToException();
        return key;
    }

    /// <summary>Ends a key at once.</summary>
    public bool Revoke(string space, string id)
    {
        bool done = store.RevokeKey(space, id, Now);
        known = new();
        if (done) Revoked?.Invoke(space, id);
        return done;
    }

    /// <summary>Keys went with their space.</summary>
    public void Forget() => known = new();

    /// <summary>Whether a key holds still: for what goes on after its request was let in.</summary>
    public bool StillHolds(ApiKey key) => store.FindKey(key.Stored.Space, key.Stored.Id) is { Revoked: null } now && !(now.Ends <= Now);

    /// <summary>The keys of a space.</summary>
    public IReadOnlyList<StoredApiKey> Of(string space) => store.Keys(space);

    internal static IReadOnlyList<string> ListOf(string json) => json.Length == 0 ? [] : JsonSerializer.Deserialize<List<string>>(json)!;

    static string TextOf(IReadOnlyList<string>? list) => list is null or { Count: 0 } ? "" : JsonSerializer.Serialize(list);

    long Now => StoredTime.From(clock.GetUtcNow()).Micros;
}
