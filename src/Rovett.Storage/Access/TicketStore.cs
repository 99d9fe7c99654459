namespace Rovett.Storage.Access;

/// <summary>A connect ticket as stored; times in microseconds. <see cref="KeyId"/>: which key its token was signed
/// with; empty: not known.</summary>
public sealed record StoredTicket(string Space, string User, string Roles, long IssuedAt, long Expires, long OpensUntil, long? Opened,
    string? Device, string? Origin, string SigningKey, string KeyId, string Claims, long ComesBack);

/// <summary>Connect tickets, on a connection of their own that does not wait for the disk: a power cut may lose the newest, whose
/// devices then ask for others, and no check of a credential waits for them. Safe to call from any thread; calls take turns.</summary>
/// <param name="sql">A connection of its own, which it closes.</param>
public sealed class TicketStore(IAccessSql sql) : IDisposable
{
    /// <summary>Stores a ticket.</summary>
    public void Add(byte[] hash, StoredTicket t) => Run(
        "INSERT INTO ticket (hash, space, \"user\", roles, issued_at, expires, opens_until, signing_key, key_id, claims) VALUES (@hash, " +
        "@Space, @User, @Roles, @IssuedAt, @Expires, @OpensUntil, @SigningKey, @KeyId, @Claims)",
        new { hash, t.Space, t.User, t.Roles, t.IssuedAt, t.Expires, t.OpensUntil, t.SigningKey, t.KeyId, t.Claims });

    /// <summary>A ticket by its hash, or null.</summary>
    public StoredTicket? Find(byte[] hash) => sql.One<StoredTicket>("SELECT space, \"user\", roles, issued_at AS IssuedAt, expires, " +
        "opens_until AS OpensUntil, opened, device, origin, signing_key AS SigningKey, key_id AS KeyId, claims, comes_back AS ComesBack " +
        "FROM ticket WHERE hash=@hash", new { hash });

    /// <summary>Opens a ticket for a device; false when it was opened before.</summary>
    public bool Open(byte[] hash, string device, string? origin, bool comesBack, long now) =>
        Run("UPDATE ticket SET opened=@now, device=@device, origin=@origin, comes_back=@comesBack WHERE hash=@hash AND opened IS NULL",
        new { hash, device, origin, comesBack = comesBack ? 1 : 0, now }) == 1;

    /// <summary>A newer token stands behind an open ticket.</summary>
    public void Renew(byte[] hash, string roles, long issuedAt, long expires, string signingKey, string keyId, string claims) =>
        Run("UPDATE ticket SET roles=@roles, issued_at=@issuedAt, expires=@expires, signing_key=@signingKey, key_id=@keyId, " +
        "claims=@claims WHERE hash=@hash", new { hash, roles, issuedAt, expires, signingKey, keyId, claims });

    /// <summary>Removes a user's tickets.</summary>
    public void RemoveOf(string space, string user) => Run("DELETE FROM ticket WHERE space=@space AND \"user\"=@user", new { space, user });

    /// <summary>Removes tickets that can no longer be used, a while after they could be, so that who comes too late is told why.</summary>
    /// <param name="now">The time.</param>
    /// <param name="grace">How long a while is; microseconds.</param>
    public void Sweep(long now, long grace) =>
        Run("DELETE FROM ticket WHERE expires<@past OR (opens_until<@past AND (opened IS NULL OR comes_back=0))",
        new { past = now - grace });

    int Run(string text, object parameters) => sql.Run(text, parameters);

    /// <inheritdoc/>
    public void Dispose() => sql.Dispose();
}
