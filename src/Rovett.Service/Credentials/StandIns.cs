using System.Collections.Concurrent;
using Rovett.Core.Addresses;
using Rovett.Core.Ledgers;
using Rovett.Storage.Access;

namespace Rovett.Service.Credentials;

/// <summary>Short-lived credentials by which an operator connects as a person, to see what the person sees. They name no roles and no
/// claims, are kept in memory only, and end with the operator's right.</summary>
public sealed class StandIns(AccessStore access, TimeProvider clock)
{
    /// <summary>The prefix of these tokens. They have three parts with dots between them, as JWTs have: clients look for that.</summary>
    public const string Prefix = "rovett_stand_in.";

    /// <summary>How long one holds.</summary>
    public static readonly TimeSpan Lasts = TimeSpan.FromMinutes(15);

    const string HeldBy = "operator:";

    readonly ConcurrentDictionary<TokenHash, (string Space, Credential Credential)> made = new();

    /// <summary>Makes one.</summary>
    public (string Token, DateTimeOffset Ends) Make(string space, StoredOperator who, UserId user)
    {
        var now = clock.GetUtcNow();
        foreach (var (old, stand) in made)
        {
            if (stand.Credential.Expires <= now) made.TryRemove(old, out _);
        }
        var token = Secrets.New(Prefix) + ".";
        var hash = TokenHash.Of(token);
        var credential = new Credential(new Identity(user, null, StoredTime.From(now).Micros), now + Lasts, HeldBy + who.Name,
            Generation(who))
        { TokenHash = hash };
        made[hash] = (space, credential);
        return (token, credential.Expires);
    }

    /// <summary>Reads one.</summary>
    /// <exception cref="ProblemException">401: it is unknown, has ended, or its operator may no longer operate.</exception>
    public Credential Check(string token, string space)
    {
        if (made.TryGetValue(TokenHash.Of(token), out var stand) && stand.Space == space && stand.Credential.Expires > clock.GetUtcNow()
            && Holds(stand.Credential))
        {
            return stand.Credential;
        }
        throw new Problem(401, "stand-in-ended", "Stand-in ended", "The console's credential for this person is no longer valid.",
            "Open the page of the console again.").ToException();
    }

    /// <summary>Ends those of an operator.</summary>
    public void End(string name)
    {
        foreach (var (hash, stand) in made)
        {
            if (IsOf(stand.Credential, name)) made.TryRemove(hash, out _);
        }
    }

    /// <summary>Whether a credential is one of these.</summary>
    public static bool Is(Credential credential) => credential.SigningKey.StartsWith(HeldBy, StringComparison.Ordinal);

    /// <summary>Whether a credential is held by an operator of this name.</summary>
    public static bool IsOf(Credential credential, string name) => credential.SigningKey == HeldBy + name;

    /// <summary>Whether the operator that a stand-in holds by may still operate.</summary>
    public bool Holds(Credential credential) =>
        access.FindOperator(credential.SigningKey[HeldBy.Length..]) is { May: "operate" } who && Generation(who) == credential.KeyId;

    /// <summary>Tells an operator from a later one of the same name.</summary>
    static string Generation(StoredOperator who) => who.Created.ToString(System.Globalization.CultureInfo.InvariantCulture);
}
