using System.Collections.Concurrent;
using System.Text.Json;
using Rovett.Service.Spaces;
using Rovett.Storage.Access;

namespace Rovett.Service.Credentials;

/// <summary>Checks backends' API keys: hashed at rest, of one space, with scopes.</summary>
public sealed class ApiKeys(AccessStore store, TimeProvider clock)
{
    internal static readonly object ActorItem = new();

    /// <summary>The scopes of keys.</summary>
    public static readonly IReadOnlyList<string> Scopes = ["send", "read", "admin"];
    const long TouchEvery = 60_000_000;
    const int MostKnown = 10_000;

    // Replaced, never cleared: who looked a key up before it was revoked puts it where nobody looks now.
    volatile ConcurrentDictionary<string, (ApiKey Key, long Touched)> known = new();

    /// <summary>Raised when keys may no longer be valid: with the space (null: any), and the id of the revoked key (null: any
    /// key).</summary>
    public event Action<string?, string?>? Ended;

    /// <summary>Makes a key; the answer's second part is shown once and stored nowhere.</summary>
    public (StoredApiKey Stored, string Key) Make(string space, string name, IEnumerable<string> scopes,
        KeyLimits? narrowedTo = null)
    {
        var key = Secrets.New(Secrets.KeyPrefix);
        return (Store(key, space, name, scopes, narrowedTo), key);
    }

    /// <summary>Stores a key that was made before.</summary>
    public StoredApiKey Store(string key, string space, string name, IEnumerable<string> scopes, KeyLimits? narrowedTo = null)
    {
        var to = narrowedTo ?? KeyLimits.None;
        var stored = new StoredApiKey(Secrets.NewId(), space, name, string.Join(',', scopes), TextOf(to.Types), TextOf(to.Addresses), Now,
            null, null, null, TextOf(to.Events), TextOf(to.Sources));
        store.AddKey(stored, Secrets.Hash(key));
        return stored;
    }

    /// <summary>Makes a key that may do what another may, which ends by itself after a time.</summary>
    /// <returns>Null when there is no such key, or it is no longer valid.</returns>
    public (StoredApiKey Stored, string Key)? Rotate(string space, string id, TimeSpan overlap)
    {
        if (store.FindKey(space, id) is not { Revoked: null } old || old.Ends <= Now) return null;
        var made = Make(space, old.Name, old.Scopes.Split(','),
            new KeyLimits(ListOf(old.Types), ListOf(old.Addresses), ListOf(old.Events), ListOf(old.Sources)));
        store.EndKey(space, id, Now + (long)overlap.TotalMicroseconds);
        known = new();
        return made;
    }

    /// <summary>Admits requests with a key of a scope; <c>admin</c> covers the others.</summary>
    /// <exception cref="ProblemException">401 or 403, telling apart missing, unknown, revoked, ended, another space's,
    /// too narrow.</exception>
    public ApiKey Require(HttpContext context, SpaceRuntime space, string scope)
    {
        if (Bearer.Of(context) is not { } text)
            throw new Problem(401, "api-key-missing", "API key missing", "This path is for backends, and the request has no credential.",
                "Send 'Authorization: Bearer rovett_key_…'; rovett serve prints the first key on the first start.").ToException();
        if (!text.StartsWith(Secrets.KeyPrefix, StringComparison.Ordinal))
            throw new Problem(401, "token-for-api-key", "Not an API key",
                "This path is for backends, and the credential is not an API key.",
                "Send a key that begins with rovett_key_; user tokens are not accepted here.").ToException();
        var key = Known(text);
        context.Items[ActorItem] = (key.Stored.Space, key.Actor);
        RequireScope(key, space, scope);
        return key;
    }

    /// <summary>Admits what does not come by HTTP.</summary>
    /// <param name="text">What was given as a key.</param>
    /// <param name="space">The space.</param>
    /// <param name="scope">The scope.</param>
    /// <exception cref="ProblemException">401 or 403, as for requests.</exception>
    public ApiKey Require(string text, SpaceRuntime space, string scope)
    {
        var key = Known(text);
        RequireScope(key, space, scope);
        return key;
    }

    ApiKey Known(string text)
    {
        var cache = known;
        if (!cache.TryGetValue(text, out var found) || found.Touched < Now - TouchEvery)
        {
            var stored = store.FindKey(Secrets.Hash(text));
            if (stored is null)
                throw new Problem(401, "api-key-unknown", "Unknown API key",
                    "No key with this value exists in this data folder.",
                    "Check that the key is complete, and that the service uses the data folder it was created in.").ToException();
            if (stored.Revoked is not null)
                throw new Problem(401, "api-key-revoked", "API key revoked",
                    $"The key '{stored.Name}' was revoked at {new StoredTime(stored.Revoked.Value)}.",
                    "Use another key; create one with rovett key create.").ToException();
            store.TouchKey(stored.Id, Now);
            if (cache.Count > MostKnown) known = cache = new();
            cache[text] = found = (new ApiKey(stored), Now);
        }
        var key = found.Key;
        if (key.Stored.Ends <= Now)
            throw new Problem(401, "api-key-ended", "API key expired",
                $"The key '{key.Stored.Name}' was replaced, and expired at {new StoredTime(key.Stored.Ends.Value)}.",
                "Use the key that replaced it.").ToException();
        return key;
    }

    static void RequireScope(ApiKey key, SpaceRuntime space, string scope)
    {
        if (key.Stored.Space != space.Name)
            throw new Problem(403, "api-key-of-another-space", "API key of another space",
                $"It was not created for the space '{space.Name}'.",
                "Use a key of this space, or the path of the key's space.").ToException();
        if (!key.Has(scope))
            throw new Problem(403, "api-key-scope", "API key scope missing",
                $"This needs the scope '{scope}'; the key '{key.Stored.Name}' has {key.Stored.Scopes}.",
                $"Use a key with the scope '{scope}'.").ToException();
    }

    /// <summary>Ends a key at once.</summary>
    public bool Revoke(string space, string id)
    {
        bool done = store.RevokeKey(space, id, Now);
        known = new();
        if (done) Ended?.Invoke(space, id);
        return done;
    }

    /// <summary>Keys went with their space.</summary>
    public void Forget() => known = new();

    /// <summary>Another process may have ended keys of a space (null: of any).</summary>
    public void Refresh(string? space)
    {
        known = new();
        Ended?.Invoke(space, null);
    }

    /// <summary>Whether a key is still valid: for what continues after its request was let in.</summary>
    public bool StillHolds(ApiKey key) => store.FindKey(key.Stored.Space, key.Stored.Id) is { Revoked: null } now && !(now.Ends <= Now);

    /// <summary>The keys of a space.</summary>
    public IReadOnlyList<StoredApiKey> Of(string space) => store.Keys(space);

    internal static IReadOnlyList<string> ListOf(string json) => json.Length == 0 ? [] : JsonSerializer.Deserialize<List<string>>(json)!;

    static string TextOf(IReadOnlyList<string>? list) => list is null or { Count: 0 } ? "" : JsonSerializer.Serialize(list);

    long Now => StoredTime.From(clock.GetUtcNow()).Micros;
}
