using Dapper;
using Microsoft.Data.Sqlite;

namespace Rovett.Storage.Sqlite;

/// <summary>An API key as stored: never the key itself.</summary>
public sealed record StoredApiKey(string Id, string Space, string Name, string Scopes, long Created, long? LastUsed, long? Revoked);

/// <summary>A connect ticket as stored; times in microseconds.</summary>
public sealed record StoredTicket(string Space, string User, string Roles, long IssuedAt, long Expires, long OpensUntil, long? Opened, string? Device, string? Origin);

/// <summary>Where receipts are posted to, as stored; times in microseconds. <see cref="States"/> and <see cref="Types"/>
/// are comma-separated, empty for all. <see cref="Delivered"/>: up to which receipt.</summary>
public sealed record StoredWebhook(string Space, string Name, string Url, byte[] Secret, string States, string Types, long Created, long Delivered, long Failures, string? Error, long? Tried, long Next, long? Ended);

/// <summary>The credentials of a data folder, in a file beside the history so that signing in never waits for sends.
/// Safe to call from any thread; calls take turns.</summary>
public sealed class AccessStore : IDisposable
{
    readonly SqliteConnection connection;
    readonly Lock gate = new();

    /// <summary>Opens (and on the first start makes) the file.</summary>
    /// <exception cref="StoreException">It can't be used.</exception>
    public AccessStore(string path)
    {
        // Its owner's from the first byte; SQLite gives the files beside it the same mode.
        if (!File.Exists(path)) new FileStream(path, new FileStreamOptions { Mode = FileMode.CreateNew, Access = FileAccess.Write, UnixCreateMode = UnixFileMode.UserRead | UnixFileMode.UserWrite }).Dispose();
        SqliteFiles.Migrate(path, "Sqlite.AccessMigrations");
        connection = SqliteFiles.Open(path, readOnly: false);
    }

    /// <summary>Stores a key.</summary>
    public void AddKey(StoredApiKey key, byte[] hash) => Run(
        "INSERT INTO api_key (id, space, name, hash, scopes, created) VALUES (@Id, @Space, @Name, @hash, @Scopes, @Created)",
        new { key.Id, key.Space, key.Name, hash, key.Scopes, key.Created });

    /// <summary>A key by its hash, or null.</summary>
    public StoredApiKey? FindKey(byte[] hash) => One<StoredApiKey>("SELECT id, space, name, scopes, created, last_used AS LastUsed, revoked FROM api_key WHERE hash=@hash", new { hash });

    /// <summary>The keys of a space, oldest first.</summary>
    public IReadOnlyList<StoredApiKey> Keys(string space) => All<StoredApiKey>("SELECT id, space, name, scopes, created, last_used AS LastUsed, revoked FROM api_key WHERE space=@space ORDER BY created", new { space });

    /// <summary>Ends a key; false when there is no such key, or it is ended already.</summary>
    public bool RevokeKey(string space, string id, long now) => Run("UPDATE api_key SET revoked=@now WHERE space=@space AND id=@id AND revoked IS NULL", new { space, id, now }) == 1;

    /// <summary>Notes when keys were used.</summary>
    public void TouchKey(string id, long now) => Run("UPDATE api_key SET last_used=@now WHERE id=@id", new { id, now });

    /// <summary>The signing secret of a space, or null.</summary>
    public byte[]? SigningSecret(string space) => One<byte[]>("SELECT secret FROM signing_key WHERE space=@space", new { space });

    /// <summary>Stores a signing secret.</summary>
    public void AddSigningSecret(string space, byte[] secret, long now) => Run("INSERT INTO signing_key (space, secret, created) VALUES (@space, @secret, @now)", new { space, secret, now });

    /// <summary>Stores a ticket, and forgets those whose tokens have ended.</summary>
    public void AddTicket(byte[] hash, StoredTicket ticket, long now)
    {
        Run("DELETE FROM ticket WHERE expires<@now", new { now });
        Run("INSERT INTO ticket (hash, space, user, roles, issued_at, expires, opens_until) VALUES (@hash, @Space, @User, @Roles, @IssuedAt, @Expires, @OpensUntil)",
            new { hash, ticket.Space, ticket.User, ticket.Roles, ticket.IssuedAt, ticket.Expires, ticket.OpensUntil });
    }

    /// <summary>A ticket by its hash, or null.</summary>
    public StoredTicket? FindTicket(byte[] hash) => One<StoredTicket>("SELECT space, user, roles, issued_at AS IssuedAt, expires, opens_until AS OpensUntil, opened, device, origin FROM ticket WHERE hash=@hash", new { hash });

    /// <summary>Opens a ticket for a device; false when it was opened before.</summary>
    public bool OpenTicket(byte[] hash, string device, string? origin, long now) =>
        Run("UPDATE ticket SET opened=@now, device=@device, origin=@origin WHERE hash=@hash AND opened IS NULL", new { hash, device, origin, now }) == 1;

    /// <summary>True when somebody can sign in to the console.</summary>
    public bool HasOperators => One<object>("SELECT 1 FROM operator LIMIT 1", new { }) is not null;

    /// <summary>The stored password hash of an operator, or null.</summary>
    public string? OperatorPassword(string name) => One<string>("SELECT password FROM operator WHERE name=@name", new { name });

    /// <summary>Stores an operator; false when the name is taken.</summary>
    public bool AddOperator(string name, string password, long now) => Run("INSERT OR IGNORE INTO operator (name, password, created) VALUES (@name, @password, @now)", new { name, password, now }) == 1;

    /// <summary>Stores a sign-up link; earlier ones end.</summary>
    public void AddSignupLink(byte[] hash, long expires)
    {
        Run("DELETE FROM signup_link", new { });
        Run("INSERT INTO signup_link (hash, expires) VALUES (@hash, @expires)", new { hash, expires });
    }

    /// <summary>Whether a sign-up link holds.</summary>
    public bool HoldsSignupLink(byte[] hash, long now) => One<object>("SELECT 1 FROM signup_link WHERE hash=@hash AND expires>@now", new { hash, now }) is not null;

    /// <summary>Uses a sign-up link up; false when it does not hold.</summary>
    public bool UseSignupLink(byte[] hash, long now) => Run("DELETE FROM signup_link WHERE hash=@hash AND expires>@now", new { hash, now }) == 1;

    const string SelectWebhook = "SELECT space, name, url, secret, states, types, created, delivered, failures, error, tried, next, ended FROM webhook";

    /// <summary>Every webhook.</summary>
    public IReadOnlyList<StoredWebhook> Webhooks() => All<StoredWebhook>(SelectWebhook + " ORDER BY space, name", new { });

    /// <summary>A webhook, or null.</summary>
    public StoredWebhook? FindWebhook(string space, string name) => One<StoredWebhook>(SelectWebhook + " WHERE space=@space AND name=@name", new { space, name });

    /// <summary>Stores a webhook, in place of the one of its name.</summary>
    public void SaveWebhook(StoredWebhook webhook) => Run(
        "INSERT OR REPLACE INTO webhook (space, name, url, secret, states, types, created, delivered, failures, error, tried, next, ended) VALUES (@Space, @Name, @Url, @Secret, @States, @Types, @Created, @Delivered, @Failures, @Error, @Tried, @Next, @Ended)", webhook);

    /// <summary>Notes how far a webhook is; one that was changed or removed meanwhile is left alone.</summary>
    public void MoveWebhook(StoredWebhook w) => Run(
        "UPDATE webhook SET delivered=@Delivered, failures=@Failures, error=@Error, tried=@Tried, next=@Next, ended=@Ended WHERE space=@Space AND name=@Name AND created=@Created", w);

    /// <summary>Removes a webhook; false when there is none.</summary>
    public bool RemoveWebhook(string space, string name) => Run("DELETE FROM webhook WHERE space=@space AND name=@name", new { space, name }) == 1;

    int Run(string sql, object parameters)
    {
        lock (gate) return connection.Execute(sql, parameters);
    }

    T? One<T>(string sql, object parameters) where T : class
    {
        lock (gate) return connection.QueryFirstOrDefault<T>(sql, parameters);
    }

    List<T> All<T>(string sql, object parameters)
    {
        lock (gate) return [.. connection.Query<T>(sql, parameters)];
    }

    /// <inheritdoc/>
    public void Dispose() => connection.Dispose();
}
