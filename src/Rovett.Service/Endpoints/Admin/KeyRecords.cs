using Rovett.Service.Http;

namespace Rovett.Service.Endpoints.Admin;

/// <summary>An API key to create.</summary>
public sealed record KeyRequest
{
    /// <summary>The key's purpose.</summary>
    [Example("ferry operations")]
    public string? Name { get; set; }

    /// <summary>Its scopes.</summary>
    [AtMost(50, "texts"), OneOf("send", "read", "admin"), Example("send", "read")]
    public IReadOnlyList<string>? Scopes { get; set; }

    /// <summary>The only types it may send: exact, or the beginning and <c>*</c>.</summary>
    [AtMost(50, "texts"), Example("engine.*")]
    public IReadOnlyList<string>? Types { get; set; }

    /// <summary>The only addresses it may send to: exact, or the beginning and <c>*</c>.</summary>
    [AtMost(50, "texts"), Example("role:*")]
    public IReadOnlyList<string>? Addresses { get; set; }

    /// <summary>The only types of events it may publish: exact, or the beginning and <c>*</c>. A key narrowed by types or addresses
    /// may publish no events unless they are named here.</summary>
    [AtMost(50, "texts"), Example("engine.*")]
    public IReadOnlyList<string>? Events { get; set; }

    /// <summary>The only sources of events it may publish for: exact, or the beginning and <c>*</c>.</summary>
    [AtMost(50, "texts"), Example("/planning/*")]
    public IReadOnlyList<string>? Sources { get; set; }
}

/// <summary>How a key is replaced.</summary>
public sealed record RotateRequest
{
    /// <summary>How long the old key is still accepted: <c>now</c>, or a number with s, m, h or d, at most 90d.</summary>
    [Example("24h")]
    public string? Overlap { get; set; }
}

/// <summary>An API key.</summary>
public sealed record KeyAnswer
{
    /// <summary>Its id.</summary>
    [Example("k4Zt9qX2mQ0bV4k9dKx2Qp")]
    public required string Id { get; init; }

    /// <summary>Its purpose.</summary>
    [Example("ferry operations")]
    public required string Name { get; init; }

    /// <summary>Its scopes.</summary>
    [OneOf("send", "read", "admin"), Example("send", "read")]
    public required IReadOnlyList<string> Scopes { get; init; }

    /// <summary>The only types it may send.</summary>
    [Example("engine.*")]
    public IReadOnlyList<string>? Types { get; init; }

    /// <summary>The only addresses it may send to.</summary>
    [Example("role:*")]
    public IReadOnlyList<string>? Addresses { get; init; }

    /// <summary>The only types of events it may publish.</summary>
    [Example("engine.*")]
    public IReadOnlyList<string>? Events { get; init; }

    /// <summary>The only sources of events it may publish for.</summary>
    [Example("/planning/*")]
    public IReadOnlyList<string>? Sources { get; init; }

    /// <summary>When it was created.</summary>
    public required StoredTime Created { get; init; }

    /// <summary>When it was last used.</summary>
    public StoredTime? LastUsed { get; init; }

    /// <summary>When it ends, after it was replaced.</summary>
    public StoredTime? Ends { get; init; }

    /// <summary>When it was removed.</summary>
    public StoredTime? Revoked { get; init; }

    /// <summary>The key itself; shown this once.</summary>
    [Example("rovett_key_2Yb6Jw0nQmPzXe8Rk5tVhA7Lw0vRt5Yz8JpHs9fK2m")]
    public string? Key { get; init; }
}

/// <summary>The API keys of a space.</summary>
public sealed record KeyList
{
    /// <summary>The keys.</summary>
    public required IReadOnlyList<KeyAnswer> Keys { get; init; }
}
