using System.Collections.Concurrent;
using System.Text;
using System.Text.Json;
using Rovett.Storage.Access;

namespace Rovett.Service.Credentials;

/// <summary>What each space's tokens are verified with: any number of keys at a time, so that one can follow another.</summary>
public sealed class SigningKeys(AccessStore store, KeySets sets)
{
    /// <summary>The most keys a space may have.</summary>
    public const int Max = 16;

    readonly ConcurrentDictionary<string, Loaded> loaded = new();
    readonly Lock gate = new();

    /// <summary>Hears of keys that are no longer in a key set: the space, the set's name, the keys' ids.</summary>
    public event Action<string, string, IReadOnlySet<string>>? Dropped;

    /// <summary>The keys of a space as stored, and where they come from elsewhere, how that stands.</summary>
    public IReadOnlyList<(StoredSigningKey Stored, KeySets.Source? Source)> Of(string space) =>
        [.. Get(space).Keys.Select(k => (k.Stored, k.Source))];

    /// <summary>Whether a space has a key by that name.</summary>
    public bool Has(string space, string name) => Get(space).Keys.Any(k => k.Stored.Name == name);

    /// <summary>Whether a space has a key, as far as is known now; a key set that was not fetched yet may have it.</summary>
    public bool Has(string space, string name, string keyId) =>
        Get(space).Keys.Any(k => k.Stored.Name == name && (keyId.Length == 0 || (k.Source?.MayHave(keyId) ?? k.Key?.Id == keyId)));

    /// <summary>Whether a space has a key. A key set is fetched when that is due.</summary>
    /// <exception cref="ProblemException">503: the key set can't be fetched.</exception>
    public ValueTask<bool> Holds(string space, string name, string keyId)
    {
        foreach (var (stored, key, source) in Get(space).Keys)
        {
            if (stored.Name != name) continue;
            return source is null || keyId.Length == 0 ? new ValueTask<bool>(keyId.Length == 0 || key?.Id == keyId) : source.Holds(keyId);
        }
        return new ValueTask<bool>(false);
    }

    /// <summary>Fetches the key sets in use for which that is due, so that what is withdrawn ends though nobody asks.</summary>
    public async Task RefreshWhenDue()
    {
        foreach (var source in loaded.Values.SelectMany(l => l.Keys).Select(k => k.Source).OfType<KeySets.Source>())
        {
            await source.RefreshWhenDue();
        }
    }

    /// <summary>Stores a key.</summary>
    /// <returns>False when there is one by that name, or as many as there can be.</returns>
    public bool Add(StoredSigningKey key)
    {
        lock (gate)
        {
            if (Get(key.Space).Keys.Count >= Max || !store.AddSigningKey(key)) return false;
            Read(key.Space);
            return true;
        }
    }

    /// <summary>Removes a key; from then on nothing holds that was signed with it.</summary>
    public bool Remove(string space, string name)
    {
        lock (gate)
        {
            var before = Get(space).Keys;
            if (!store.RemoveSigningKey(space, name)) return false;
            loaded[space] = new Loaded([.. before.Where(k => k.Stored.Name != name)]);
            return true;
        }
    }

    /// <summary>Forgets which tokens of a space were verified: its settings changed.</summary>
    public void ForgetVerified(string space)
    {
        lock (gate)
        {
            if (loaded.TryGetValue(space, out var now)) loaded[space] = new Loaded(now.Keys);
        }
    }

    /// <summary>Forgets the keys of a space: it is gone, or its keys are to be read when they are next needed.</summary>
    public void Forget(string space)
    {
        lock (gate) loaded.TryRemove(space, out _);
    }

    /// <summary>Another process may have changed the keys of a space (null: of any): reads them again. Key sets that stay keep what was
    /// fetched.</summary>
    public void Refresh(string? space)
    {
        foreach (var name in space is null ? loaded.Keys : [space])
        {
            lock (gate)
            {
                if (loaded.ContainsKey(name)) Read(name);
            }
        }
    }

    /// <summary>Another process found that a key set of a space (null: of any) has lost keys: fetches those in use.</summary>
    public async Task FetchAgain(string? space)
    {
        foreach (var (name, keys) in loaded)
        {
            if (space is not null && name != space) continue;
            foreach (var source in keys.Keys.Select(k => k.Source).OfType<KeySets.Source>()) await source.FetchAgain();
        }
    }

    /// <summary>The tokens of a space that were verified with the keys and settings it has now. To be asked for before
    /// a token is looked at.</summary>
    internal VerifiedTokens Verified(string space) => Get(space).Verified;

    /// <summary>The keys that may have signed a token, those of this service first.</summary>
    /// <param name="space">The space.</param>
    /// <param name="algorithm">The token's algorithm.</param>
    /// <param name="kid">The key's id in the token; null: none.</param>
    internal async IAsyncEnumerable<VerifyingKey> Candidates(string space, string algorithm, string? kid)
    {
        var keys = Get(space).Keys;
        foreach (var (_, key, _) in keys)
        {
            if (key is not null && key.Algorithm == algorithm && (kid is null || key.Kid is null || key.Kid == kid)) yield return key;
        }
        if (algorithm == "HS256") yield break; // never out of what is public
        ProblemException? unreachable = null;
        foreach (var (_, _, source) in keys)
        {
            if (source is null) continue;
            IReadOnlyList<VerifyingKey> found = [];
            try
            {
                found = await source.Find(algorithm, kid);
            }
            catch (ProblemException problem)
            {
                unreachable = problem;
            }
            foreach (var key in found) yield return key;
        }
        if (unreachable is not null) throw unreachable; // it might have been the one
    }

    Loaded Get(string space)
    {
        if (loaded.TryGetValue(space, out var found)) return found;
        lock (gate)
        {
            return loaded.TryGetValue(space, out found) ? found : Read(space);
        }
    }

    // Within the gate.
    Loaded Read(string space)
    {
        var before = loaded.GetValueOrDefault(space);
        IReadOnlyList<StoredSigningKey> stored;
        try
        {
            stored = store.SigningKeys(space);
        }
        catch
        {
            loaded.TryRemove(space, out _); // what was known may no longer hold
            throw;
        }
        if (before is not null && before.Keys.Count == stored.Count && before.Keys.Zip(stored).All(p => AreSame(p.First.Stored, p.Second)))
        {
            return before;
        }
        return loaded[space] = new Loaded([.. stored.Select(s => before?.Keys.FirstOrDefault(k => AreSame(k.Stored, s))
            is { Stored: not null } same ? same : Load(s))]);
    }

    static bool AreSame(StoredSigningKey one, StoredSigningKey other) => one.Name == other.Name && one.Kind == other.Kind
        && one.Kid == other.Kid && one.Created == other.Created && one.Value.AsSpan().SequenceEqual(other.Value);

    (StoredSigningKey, VerifyingKey?, KeySets.Source?) Load(StoredSigningKey stored)
    {
        switch (stored.Kind)
        {
            case SigningKeyKind.Secret: return (stored, VerifyingKey.OfSecret(stored.Name, stored.Kid, stored.Value), null);
            case SigningKeyKind.PublicKey:
                using (var jwk = JsonDocument.Parse(
                    stored.Value)) return (stored, VerifyingKey.OfJwk(jwk.RootElement, stored.Name, stored.Kid, null, out _), null);
            default:
                var source = sets.Of(stored.Name, Encoding.UTF8.GetString(stored.Value), stored.Kind == SigningKeyKind.Issuer);
                source.Dropped += ids => OnDropped(stored, ids);
                return (stored, null, source);
        }
    }

    void OnDropped(StoredSigningKey set, IReadOnlySet<string> ids)
    {
        lock (gate)
        {
            if (loaded.TryGetValue(set.Space, out var now)) loaded[set.Space] = new Loaded(now.Keys); // what was verified is forgotten
        }
        store.Tell(set.Space, AccessKinds.KeySets);
        Dropped?.Invoke(set.Space, set.Name, ids);
    }

    sealed class Loaded(IReadOnlyList<(StoredSigningKey Stored, VerifyingKey? Key, KeySets.Source? Source)> keys)
    {
        public IReadOnlyList<(StoredSigningKey Stored, VerifyingKey? Key, KeySets.Source? Source)> Keys => keys;
        public VerifiedTokens Verified { get; } = new();
    }
}
