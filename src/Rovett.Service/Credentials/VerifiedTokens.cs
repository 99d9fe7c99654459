using System.Collections.Concurrent;
using System.Diagnostics.CodeAnalysis;

namespace Rovett.Service.Credentials;

/// <summary>Tokens that were verified, by their hashes; all are forgotten when they have become many.</summary>
sealed class VerifiedTokens
{
    const int Most = 20_000;

    readonly ConcurrentDictionary<TokenHash, Credential> credentials = new();
    int count; // the dictionary's own takes all its locks

    public bool TryGet(TokenHash hash, [NotNullWhen(true)] out Credential? credential) => credentials.TryGetValue(hash, out credential);

    public void Add(TokenHash hash, Credential credential)
    {
        if (!credentials.TryAdd(hash, credential) || Interlocked.Increment(ref count) <= Most) return;
        Volatile.Write(ref count, 0);
        credentials.Clear(); // rather than looking for those that have ended
    }
}
