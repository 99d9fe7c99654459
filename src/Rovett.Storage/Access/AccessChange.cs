namespace Rovett.Storage.Access;

/// <summary>Something of a kind was changed in a space, by whichever process.</summary>
/// <param name="Space">The space; empty: it is of all spaces.</param>
/// <param name="Kind">One of <see cref="AccessKinds"/>; null: anything may have changed.</param>
public readonly record struct AccessChange(string Space, string? Kind);

/// <summary>Kinds of what processes keep in memory and another process may change.</summary>
public static class AccessKinds
{
    /// <summary>API keys were revoked, limited in time or removed.</summary>
    public const string ApiKeys = "api-keys";
    /// <summary>Signing keys came or went.</summary>
    public const string SigningKeys = "signing-keys";
    /// <summary>A key set, kept elsewhere, no longer has a key that it had.</summary>
    public const string KeySets = "key-sets";
    /// <summary>A space's settings.</summary>
    public const string Settings = "settings";
    /// <summary>Deciders.</summary>
    public const string Deciders = "deciders";
    /// <summary>Webhooks.</summary>
    public const string Webhooks = "webhooks";
    /// <summary>Operators of the console.</summary>
    public const string Operators = "operators";
    /// <summary>Spaces came or went.</summary>
    public const string Spaces = "spaces";
    /// <summary>A version of a space's policies was loaded.</summary>
    public const string Policies = "policies";
    /// <summary>A catalogue of types was loaded.</summary>
    public const string Types = "types";
}
