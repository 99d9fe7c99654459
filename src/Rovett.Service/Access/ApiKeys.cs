using System.Collections.Concurrent;
using Rovett.Core;
using Rovett.Core.AddressLogs;
using Rovett.Storage.Sqlite;

namespace Rovett.Service.Access;

/// <summary>Checks backends' API keys: hashed at rest, of one space, with scopes.</summary>
public sealed class ApiKeys(AccessStore store, TimeProvider clock)
{
    /// <summary>What a key may be for.</summary>
    public static readonly IReadOnlyList<string> Scopes = ["send", "read", "admin"];

    readonly ConcurrentDictionary<string, (StoredApiKey Key, long Touched)> known = new();

    /// <summary>Makes a key; the answer's second part is shown once and stored nowhere.</summary>
    public (StoredApiKey Stored, string Key) Make(string space, string name, IEnumerable<string> scopes)
    {
        var key = Secrets.New(Secrets.KeyPrefix);
        var stored = new StoredApiKey(Secrets.NewId(), space, name, string.Join(',', scopes), Now, null, null);
        store.AddKey(stored, Secrets.Hash(key));
        return (stored, key);
    }

    /// <summary>Lets a request in that shows a key with a scope; <c>admin</c> covers the others.</summary>
    /// <exception cref="ProblemException">401 or 403, telling apart missing, unknown, revoked, another space's, too narrow.</exception>
    public StoredApiKey Require(HttpContext context, SpaceRuntime space, string scope)
    {
        if (Bearer.Of(context) is not { } text)
            throw new Problem(401, "api-key-missing", "An API key is missing", "This path is for backends and no credential was shown.", "Send 'Authorization: Bearer rovett_key_…'; rovett serve prints the first key when it first starts.").Throw();
        if (!text.StartsWith(Secrets.KeyPrefix, StringComparison.Ordinal))
            throw new Problem(401, "token-for-api-key", "That is no API key", "This path is for backends, and something else than an API key was shown.", "Send a key that begins with rovett_key_; a user's token can't send.").Throw();
        if (!known.TryGetValue(text, out var found) || found.Touched < Now - 60_000_000)
        {
            var stored = store.FindKey(Secrets.Hash(text));
            if (stored is null)
                throw new Problem(401, "api-key-unknown", "The API key is not known", "No such key was ever made here, or the data folder is another one.", "Check it for a missing end, and that the service runs on the data folder that made it.").Throw();
            if (stored.Revoked is not null)
                throw new Problem(401, "api-key-revoked", "The API key was revoked", $"The key '{stored.Name}' was revoked at {new StoredTime(stored.Revoked.Value)}.", "Use another key; rovett key make makes one.").Throw();
            store.TouchKey(stored.Id, Now);
            if (known.Count > 10_000) known.Clear();
            known[text] = found = (stored, Now);
        }
        if (found.Key.Space != space.Name)
            throw new Problem(403, "api-key-of-another-space", "The API key is of another space", $"It was not made for the space '{space.Name}'.", "Use this space's key, or the path of the space the key was made for.").Throw();
        var scopes = found.Key.Scopes.Split(',');
        if (!scopes.Contains(scope) && !scopes.Contains("admin"))
            throw new Problem(403, "api-key-scope", "The API key may not do this", $"This needs the scope '{scope}'; the key '{found.Key.Name}' has {found.Key.Scopes}.", $"Use a key with the scope '{scope}'.").Throw();
        return found.Key;
    }

    /// <summary>Ends a key at once.</summary>
    public bool Revoke(string space, string id)
    {
        bool done = store.RevokeKey(space, id, Now);
        known.Clear();
        return done;
    }

    /// <summary>The keys of a space.</summary>
    public IReadOnlyList<StoredApiKey> Of(string space) => store.Keys(space);

    long Now => StoredTime.From(clock.GetUtcNow()).Micros;
}

/// <summary>The credential of a request's <c>Authorization</c> header (RFC 6750).</summary>
public static class Bearer
{
    /// <summary>What follows <c>Bearer</c>, or null.</summary>
    public static string? Of(HttpContext context)
    {
        var header = context.Request.Headers.Authorization.ToString();
        return header.StartsWith("Bearer ", StringComparison.OrdinalIgnoreCase) && header.Length > 7 ? header[7..].Trim() : null;
    }
}
