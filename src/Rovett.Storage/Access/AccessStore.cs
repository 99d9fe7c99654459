namespace Rovett.Storage.Access;

/// <summary>An API key as stored: never the key itself. <see cref="Types"/> and <see cref="Addresses"/> are JSON arrays of what it is
/// narrowed to, empty for anything. Times in microseconds.</summary>
public sealed record StoredApiKey(string Id, string Space, string Name, string Scopes, string Types, string Addresses, long Created,
    long? LastUsed, long? Ends, long? Revoked, string Events = "", string Sources = "");

/// <summary>One line of the audit trail. <see cref="Detail"/> is a JSON object.</summary>
public sealed record StoredAct(long Id, string Space, long Time, string Actor, string Act, string About, string Detail);

/// <summary>A stored signing key.</summary>
public enum SigningKeyKind
{
    /// <summary>A secret shared with the backend, for HS256.</summary>
    Secret = 1,
    /// <summary>A public key, as a JWK (RFC 7517).</summary>
    PublicKey,
    /// <summary>The address of a key set (JWKS).</summary>
    KeySet,
    /// <summary>An OpenID Connect issuer, whose key set its discovery document names.</summary>
    Issuer,
}

/// <summary>A signing key as stored. <see cref="Value"/>: the secret's bytes, the JWK, or the address, in UTF-8.</summary>
public sealed record StoredSigningKey(string Space, string Name, SigningKeyKind Kind, string? Kid, byte[] Value, long Created)
{
    // As Dapper reads it.
    StoredSigningKey(string space, string name, long kind, string? kid, byte[] value, long created) : this(space, name,
        (SigningKeyKind)kind, kid, value, created)
    { }
}

/// <summary>Where receipts are posted to, as stored; times in microseconds. <see cref="States"/> and <see cref="Types"/>
/// are comma-separated, empty for all. <see cref="Delivered"/>: up to which receipt.</summary>
public sealed record StoredWebhook(string Space, string Name, string Url, byte[] Secret, string States, string Types, long Created,
    long Delivered, long Failures, string? Error, long? Tried, long Next, long? Ended, string Purpose = StoredWebhook.ForReceipts)
{
    /// <summary>It is told of receipts.</summary>
    public const string ForReceipts = "receipts";
    /// <summary>It is called by missed deadlines that name it.</summary>
    public const string ForOtherwise = "otherwise";
}

/// <summary>An operator of the console, as stored. <see cref="May"/>: <c>view</c> or <c>operate</c>;
/// <see cref="Password"/>: its hash.</summary>
public sealed record StoredOperator(string Name, string May, string Password, long Created);

/// <summary>A sign-in at the console, or one that was refused (0).</summary>
public sealed record StoredSignIn(string Operator, long Time, string Address, string Agent, long SignedIn);

/// <summary>An operator's session of the console that goes on; times in microseconds.</summary>
public sealed record StoredOperatorSession(string Operator, long Began, long Ends, string Address, string Agent);

/// <summary>A backend that policies ask, as stored.</summary>
public sealed record StoredDecider(string Space, string Name, string Url, byte[] Secret, long TimeoutMs, long AllowSeconds,
    long DenySeconds, long Created);

/// <summary>The credentials, beside the history so that signing in never waits for sends. Safe to call from any thread; calls take
/// turns.</summary>
/// <param name="sql">A connection of its own, which it closes.</param>
public sealed partial class AccessStore(IAccessSql sql) : IDisposable
{
    /// <summary>Stores a key.</summary>
    public void AddKey(StoredApiKey key, byte[] hash) => Run(
        "INSERT INTO api_key (id, space, name, hash, scopes, types, addresses, created, events, sources) VALUES (@Id, @Space, @Name, " +
        "@hash, " +
        "@Scopes, @Types, @Addresses, @Created, @Events, @Sources)",
        new { key.Id, key.Space, key.Name, hash, key.Scopes, key.Types, key.Addresses, key.Created, key.Events, key.Sources });

    const string SelectKey = "SELECT id, space, name, scopes, types, addresses, created, last_used AS LastUsed, ends, revoked, events, " +
        "sources FROM api_key";

    /// <summary>A key by its hash, or null.</summary>
    public StoredApiKey? FindKey(byte[] hash) => One<StoredApiKey>(SelectKey + " WHERE hash=@hash", new { hash });

    /// <summary>The keys of a space, oldest first.</summary>
    public IReadOnlyList<StoredApiKey> Keys(string space) =>
        All<StoredApiKey>(SelectKey + " WHERE space=@space ORDER BY created", new { space });

    /// <summary>The spaces that have, or had, keys.</summary>
    public IReadOnlySet<string> SpacesWithKeys() => All<string>("SELECT DISTINCT space FROM api_key", new { }).ToHashSet();

    /// <summary>Ends a key; false when there is no such key, or it is ended already.</summary>
    public bool RevokeKey(string space, string id, long now) =>
        Run("UPDATE api_key SET revoked=@now WHERE space=@space AND id=@id AND revoked IS NULL", new { space, id, now }) == 1;

    /// <summary>A key by its id, or null.</summary>
    public StoredApiKey? FindKey(string space, string id) =>
        One<StoredApiKey>(SelectKey + " WHERE space=@space AND id=@id", new { space, id });

    /// <summary>Sets the end of a key, never later than before.</summary>
    public void EndKey(string space, string id, long ends) =>
        Run("UPDATE api_key SET ends=CASE WHEN ends<@ends THEN ends ELSE @ends END WHERE space=@space AND id=@id", new { space, id, ends });

    /// <summary>Adds a line to the audit trail.</summary>
    public void AddAct(string space, long time, string actor, string act, string about, string detail) =>
        Run("INSERT INTO audit (space, time, actor, act, about, detail) VALUES (@space, @time, @actor, @act, @about, @detail)", new
        {
            space,
            time,
            actor,
            act,
            about,
            detail
        });

    /// <summary>Lines of a space's audit trail after one of them, oldest first.</summary>
    public IReadOnlyList<StoredAct> Acts(string space, long after, int most) =>
        All<StoredAct>("SELECT id, space, time, actor, act, about, detail FROM audit WHERE space=@space AND id>@after AND " +
        "id>COALESCE((SELECT audit_after FROM space_start WHERE space=@space), 0) ORDER BY id LIMIT @most", new { space, after, most });

    /// <summary>The newest lines of a space's audit trail, newest first.</summary>
    public IReadOnlyList<StoredAct> NewestActs(string space, int most) =>
        All<StoredAct>("SELECT id, space, time, actor, act, about, detail FROM audit WHERE space=@space AND id>COALESCE((SELECT " +
        "audit_after FROM space_start WHERE space=@space), 0) ORDER BY id DESC LIMIT @most", new { space, most });

    /// <summary>Notes when keys were used.</summary>
    public void TouchKey(string id, long now) => Run("UPDATE api_key SET last_used=@now WHERE id=@id", new { id, now });

    /// <summary>The signing keys of a space, oldest first.</summary>
    public IReadOnlyList<StoredSigningKey> SigningKeys(string space) =>
        All<StoredSigningKey>("SELECT space, name, kind, kid, value, created FROM signing_key WHERE space=@space ORDER BY created, name",
        new { space });

    /// <summary>Stores a signing key; false when there is one of its name.</summary>
    public bool AddSigningKey(StoredSigningKey key)
    {
        bool added = Run("INSERT INTO signing_key (space, name, kind, kid, value, created) VALUES (@Space, @Name, @Kind, @Kid, @Value, " +
            "@Created) ON CONFLICT DO NOTHING", new { key.Space, key.Name, Kind = (int)key.Kind, key.Kid, key.Value, key.Created }) == 1;
        // Of an earlier key by that name.
        if (added) Run("DELETE FROM ticket WHERE space=@Space AND signing_key=@Name", new { key.Space, key.Name });
        return added;
    }

    /// <summary>Removes a signing key; false when there is none of that name.</summary>
    public bool RemoveSigningKey(string space, string name) =>
        Run("DELETE FROM signing_key WHERE space=@space AND name=@name", new { space, name }) == 1;

    /// <summary>A space's own settings as JSON, or null.</summary>
    public string? Settings(string space) => One<string>("SELECT settings FROM space_settings WHERE space=@space", new { space });

    /// <summary>The settings of all spaces that have any of their own.</summary>
    public IReadOnlyDictionary<string, string> AllSettings() =>
        All<StoredSettings>("SELECT space, settings FROM space_settings", new { }).ToDictionary(s => s.Space, s => s.Settings);

    sealed record StoredSettings(string Space, string Settings);

    /// <summary>Stores a space's own settings.</summary>
    public void SaveSettings(string space, string settings, long now) =>
        Run("INSERT INTO space_settings (space, settings, changed) VALUES (@space, @settings, @now) ON CONFLICT (space) DO UPDATE SET " +
        "settings=@settings, changed=@now", new { space, settings, now });

    /// <summary>True when somebody can sign in to the console.</summary>
    public bool HasOperators => One<object>("SELECT 1 FROM operator LIMIT 1", new { }) is not null;

    const string SelectOperator = "SELECT name, may, password, created FROM operator";

    /// <summary>An operator, or null.</summary>
    public StoredOperator? FindOperator(string name) => One<StoredOperator>(SelectOperator + " WHERE name=@name", new { name });

    /// <summary>The operators, by name.</summary>
    public IReadOnlyList<StoredOperator> Operators() => All<StoredOperator>(SelectOperator + " ORDER BY name", new { });

    /// <summary>Stores an operator; false when the name is taken.</summary>
    public bool AddOperator(StoredOperator made) =>
        Run("INSERT INTO operator (name, may, password, created) VALUES (@Name, @May, @Password, @Created) ON CONFLICT DO NOTHING",
        made) == 1;

    /// <summary>Removes an operator; false when there is none, or it is the last who may operate.</summary>
    public bool RemoveOperator(string name)
    {
        if (Run("DELETE FROM operator WHERE name=@name AND (may<>'operate' OR (SELECT count(*) FROM operator WHERE may='operate')>1)",
            new { name }) == 0)
        {
            return false;
        }
        Run("DELETE FROM operator_session WHERE operator=@name", new { name });
        return true;
    }

    /// <summary>Operators' sessions that go on, the newest first.</summary>
    public IReadOnlyList<StoredOperatorSession> OperatorSessions(long now, int most) => All<StoredOperatorSession>(
        "SELECT s.operator, s.began, s.ends, s.address, s.agent FROM operator_session s JOIN operator o ON o.name=s.operator AND " +
        "o.created=s.made WHERE s.ends>@now ORDER BY s.began DESC LIMIT @most", new { now, most });

    /// <summary>Ends all sessions of an operator; answers how many there were.</summary>
    public int EndOperatorSessions(string name) => Run("DELETE FROM operator_session WHERE operator=@name", new { name });

    /// <summary>Begins an operator's session, and forgets those that have ended.</summary>
    public void AddOperatorSession(byte[] hash, StoredOperator who, long began, long ends, string address, string agent)
    {
        Run("DELETE FROM operator_session WHERE ends<=@began", new { began });
        Run("INSERT INTO operator_session (hash, operator, made, began, ends, address, agent) VALUES (@hash, @Name, @Created, @began, " +
            "@ends, @address, @agent)", new { hash, who.Name, who.Created, began, ends, address, agent });
    }

    /// <summary>The operator of a session that goes on, or null.</summary>
    public StoredOperator? FindOperatorOf(byte[] hash, long now) =>
        One<StoredOperator>("SELECT o.name, o.may, o.password, o.created FROM operator_session s JOIN operator o ON o.name=s.operator " +
        "AND o.created=s.made WHERE s.hash=@hash AND s.ends>@now", new { hash, now });

    /// <summary>Extends a session that would end before a time.</summary>
    public bool ExtendOperatorSession(byte[] hash, long before, long ends) =>
        Run("UPDATE operator_session SET ends=@ends WHERE hash=@hash AND ends<@before", new { hash, before, ends }) == 1;

    /// <summary>Ends a session.</summary>
    public void EndOperatorSession(byte[] hash) => Run("DELETE FROM operator_session WHERE hash=@hash", new { hash });

    /// <summary>Stores a sign-up link for who may do so much; earlier ones for as much end.</summary>
    public void AddSignupLink(byte[] hash, string may, long expires)
    {
        Run("DELETE FROM signup_link WHERE may=@may", new { may });
        Run("INSERT INTO signup_link (hash, may, expires) VALUES (@hash, @may, @expires)", new { hash, may, expires });
    }

    /// <summary>The rights that a sign-up link gives; null: it is not valid.</summary>
    public string? SignupLink(byte[] hash, long now) =>
        One<string>("SELECT may FROM signup_link WHERE hash=@hash AND expires>@now", new { hash, now });

    /// <summary>Makes an operator by a sign-up link, and uses that up; both or none.</summary>
    /// <returns>False when the name is taken, and the link is still valid.</returns>
    public bool SignUp(byte[] link, StoredOperator made, long now)
    {
        bool done = false;
        Together(() => done = One<object>("SELECT 1 FROM signup_link WHERE hash=@link AND expires>@now", new { link, now }) is not null
            && AddOperator(made) && Run("DELETE FROM signup_link WHERE hash=@link", new { link }) == 1);
        return done;
    }

    /// <summary>Notes that somebody signed in, or was refused; the oldest of very many go.</summary>
    public void AddSignIn(string name, long time, string address, string agent, bool signedIn)
    {
        Run("INSERT INTO sign_in (operator, time, address, agent, signed_in) VALUES (@name, @time, @address, @agent, @signedIn)",
            new { name, time, address, agent, signedIn = signedIn ? 1 : 0 });
        Run("DELETE FROM sign_in WHERE id<=(SELECT MAX(id) FROM sign_in)-10000", new { });
    }

    /// <summary>The newest sign-ins, newest first.</summary>
    public IReadOnlyList<StoredSignIn> SignIns(int most) =>
        All<StoredSignIn>("SELECT operator, time, address, agent, signed_in AS SignedIn FROM sign_in ORDER BY id DESC LIMIT @most",
        new { most });

    const string SelectWebhook =
        "SELECT space, name, url, secret, states, types, created, delivered, failures, error, tried, next, ended, purpose FROM webhook";

    /// <summary>Every webhook.</summary>
    public IReadOnlyList<StoredWebhook> Webhooks() => All<StoredWebhook>(SelectWebhook + " ORDER BY space, name", new { });

    /// <summary>A webhook, or null.</summary>
    public StoredWebhook? FindWebhook(string space, string name) =>
        One<StoredWebhook>(SelectWebhook + " WHERE space=@space AND name=@name", new { space, name });

    /// <summary>Stores a webhook, in place of the one of its name.</summary>
    public void SaveWebhook(StoredWebhook webhook) => Run(
        "INSERT INTO webhook (space, name, url, secret, states, types, created, delivered, failures, error, tried, next, " +
        "ended, purpose) VALUES (@Space, @Name, @Url, @Secret, @States, @Types, @Created, @Delivered, @Failures, @Error, @Tried, @Next, " +
        "@Ended, @Purpose) ON CONFLICT (space, name) DO UPDATE SET url=@Url, secret=@Secret, states=@States, types=@Types, " +
        "created=@Created, delivered=@Delivered, failures=@Failures, error=@Error, tried=@Tried, next=@Next, ended=@Ended, " +
        "purpose=@Purpose",
        webhook);

    /// <summary>Notes how far a webhook is; one that was changed or removed meanwhile is left alone.</summary>
    public void MoveWebhook(StoredWebhook w) => Run(
        "UPDATE webhook SET delivered=@Delivered, failures=@Failures, error=@Error, tried=@Tried, next=@Next, ended=@Ended WHERE " +
        "space=@Space AND name=@Name AND created=@Created", w);

    /// <summary>Removes a webhook; false when there is none.</summary>
    public bool RemoveWebhook(string space, string name) =>
        Run("DELETE FROM webhook WHERE space=@space AND name=@name", new { space, name }) == 1;

    /// <summary>A space begins: what is in the trail from before, under the same name, is not its own.</summary>
    public void BeginSpace(string space) =>
        Run("INSERT INTO space_start (space, audit_after) VALUES (@space, (SELECT COALESCE(MAX(id), 0) FROM audit)) " +
        "ON CONFLICT (space) DO UPDATE SET audit_after=excluded.audit_after", new { space });

    /// <summary>Removes all credentials and settings of a space. Its trail stays.</summary>
    public void RemoveSpace(string space)
    {
        foreach (var table in new[] { "api_key", "signing_key", "ticket", "webhook", "space_settings", "decider", "meter_span" })
        {
            Run($"DELETE FROM {table} WHERE space=@space", new { space });
        }
    }

    const string SelectDecider = "SELECT space, name, url, secret, timeout_ms AS TimeoutMs, allow_seconds AS AllowSeconds, deny_seconds " +
        "AS DenySeconds, created FROM decider";

    /// <summary>The deciders of a space, by name.</summary>
    public IReadOnlyList<StoredDecider> Deciders(string space) =>
        All<StoredDecider>(SelectDecider + " WHERE space=@space ORDER BY name", new { space });

    /// <summary>A decider, or null.</summary>
    public StoredDecider? FindDecider(string space, string name) =>
        One<StoredDecider>(SelectDecider + " WHERE space=@space AND name=@name", new { space, name });

    /// <summary>Stores a decider, in place of the one of its name.</summary>
    public void SaveDecider(StoredDecider decider) => Run(
        "INSERT INTO decider (space, name, url, secret, timeout_ms, allow_seconds, deny_seconds, created) VALUES (@Space, " +
        "@Name, @Url, @Secret, @TimeoutMs, @AllowSeconds, @DenySeconds, @Created) ON CONFLICT (space, name) DO UPDATE SET url=@Url, " +
        "secret=@Secret, timeout_ms=@TimeoutMs, allow_seconds=@AllowSeconds, deny_seconds=@DenySeconds, created=@Created", decider);

    /// <summary>Removes a decider; false when there is none.</summary>
    public bool RemoveDecider(string space, string name) =>
        Run("DELETE FROM decider WHERE space=@space AND name=@name", new { space, name }) == 1;

    /// <summary>Tells other processes that something changed which is not stored.</summary>
    /// <param name="space">The space.</param>
    /// <param name="kind">One of <see cref="AccessKinds"/>.</param>
    public void Tell(string space, string kind) => sql.Tell(space, kind);

    /// <summary>Has what was removed overwritten, where the home keeps it; as far as nobody reads just now.</summary>
    public void ScrubFreed() => sql.ScrubFreed();

    /// <summary>Carries out several calls in one transaction: all of them become true, or none.</summary>
    public void Together(Action work) => sql.Together(work);

    int Run(string text, object parameters) => sql.Run(text, parameters);

    T? One<T>(string text, object parameters) where T : class => sql.One<T>(text, parameters);

    List<T> All<T>(string text, object parameters) => sql.All<T>(text, parameters);

    /// <inheritdoc/>
    public void Dispose() => sql.Dispose();
}
