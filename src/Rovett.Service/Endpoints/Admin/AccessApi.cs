using System.Globalization;
using System.Text;
using System.Text.Json;
using System.Text.Json.Nodes;
using Rovett.Core.Addresses;
using Rovett.Service.Audit;
using Rovett.Service.Credentials;
using Rovett.Service.Http;
using Rovett.Service.Live;
using Rovett.Service.Options;
using Rovett.Service.Spaces;
using Rovett.Storage.Sql;
using Rovett.Storage.Sqlite;

namespace Rovett.Service.Endpoints.Admin;

/// <summary>Who may do what: API keys, signing keys, the space's settings, and what was done by whom. All of it needs
/// the scope <c>admin</c>.</summary>
public sealed class AccessApi(ApiKeys keys, SigningKeys signing, AccessStore store, AuditTrail audit,
    SqlHistory history, SessionRegistry sessions, TimeProvider clock)
{
    const int MostNarrowed = 50, MostActs = 500;
    static readonly string[] KeyMembers = ["name", "scopes", "types", "addresses"];
    static readonly string[] SigningMembers = ["name", "kid", "secret", "publicKey", "keySet", "issuer"];
    static readonly TimeSpan LongestOverlap = TimeSpan.FromDays(90);

    static string NameOf(JsonElement root, string what, List<FieldError> errors)
    {
        if (root.TryGetProperty("name", out var given) && JsonText.TryString(given, out var text)
            && Names.CheckForPath(text, out var name) is null)
        {
            return name;
        }
        errors.Add(new FieldError("name", $"must be 1 to 128 characters that say {what}"));
        return "";
    }

    /// <summary><c>POST /v1/keys</c></summary>
    public async Task MakeKey(HttpContext context)
    {
        var (space, admin) = context.KeyCaller();
        using var body = await Json.Read(context);
        var errors = new List<FieldError>();
        var root = Json.Object(body, KeyMembers, errors);
        var name = NameOf(root, "what the key is for", errors);
        var scopes =
            List(root, "scopes", errors, s => ApiKeys.Scopes.Contains(s) ? null : $"must be one of {string.Join(", ", ApiKeys.Scopes)}");
        if (scopes.Count == 0 && !errors.Exists(e => e.Field.StartsWith("scopes", StringComparison.Ordinal)))
        {
            errors.Add(new FieldError("scopes", $"must name at least one of {string.Join(", ", ApiKeys.Scopes)}"));
        }
        var types = List(root, "types", errors,
            t => t.Length <= 128 && t.IndexOf('*', StringComparison.Ordinal) is var star
            && (star < 0 || star == t.Length - 1) ? null : "must be a type, or the beginning of types and *");
        var addresses = List(root, "addresses", errors,
            a => a.IndexOf('*', StringComparison.Ordinal) is var star && star < 0 ? Address.TryParse(a, out _)
            : star == a.Length - 1
            && (a.StartsWith("user:", StringComparison.Ordinal) || a.StartsWith("role:", StringComparison.Ordinal)
            || a.StartsWith("topic:", StringComparison.Ordinal))
            ? null
            : "must be an address, or the beginning of addresses and *: user:*, role:deck*, topic:berth/*");
        if (scopes.Contains("admin") && types.Count + addresses.Count > 0)
        {
            errors.Add(new FieldError("scopes", "can't hold admin when the key is narrowed: an admin key can make itself any other"));
        }
        if (errors.Count > 0) throw Problem.Invalid(errors).ToException();
        var (stored, key) = keys.Make(space.Name, name, scopes, types, addresses);
        audit.Note(space.Name, admin.Actor, "api-key.made", $"key:{stored.Id} {stored.Name}", json => WriteKeyRights(json, stored));
        await Json.Write(context, 201, json => WriteKey(json, stored, key));
    }

    /// <summary><c>POST /v1/keys/{id}/rotate</c>: a key that may do the same; the old one holds for as long as both are needed.</summary>
    public async Task RotateKey(HttpContext context)
    {
        var (space, admin) = context.KeyCaller();
        using var body = await Json.Read(context);
        var errors = new List<FieldError>();
        var root = Json.Object(body, ["overlap"], errors);
        var overlap = TimeSpan.Zero;
        if (!root.TryGetProperty("overlap", out var given) || !JsonText.TryString(given, out var text)
            || !Durations.TryParse(text, out overlap) || overlap > LongestOverlap)
            errors.Add(new FieldError("overlap", $"must say how long the old key holds: now, or a number with s, m, h or d such as 24h, " +
                $"at most {LongestOverlap.TotalDays:0}d"));
        if (errors.Count > 0) throw Problem.Invalid(errors).ToException();
        var id = (string)context.Request.RouteValues["id"]!;
        if (keys.Rotate(space.Name, id, overlap) is not var (stored, key)) throw UnknownKey().ToException();
        audit.Note(space.Name, admin.Actor, "api-key.rotated", $"key:{id}", json =>
        {
            json.WriteString("followedBy", stored.Id);
            json.WriteNumber("overlapSeconds", (long)overlap.TotalSeconds);
        });
        await Json.Write(context, 201, json => WriteKey(json, stored, key));
    }

    /// <summary><c>GET /v1/keys</c></summary>
    public Task ListKeys(HttpContext context)
    {
        var space = context.KeyCaller().Space;
        return Json.Write(context, 200, json =>
        {
            json.WriteStartObject();
            json.WriteStartArray("keys");
            foreach (var stored in keys.Of(space.Name)) WriteKey(json, stored, null);
            json.WriteEndArray();
            json.WriteEndObject();
        });
    }

    /// <summary><c>DELETE /v1/keys/{id}</c></summary>
    public Task RevokeKey(HttpContext context)
    {
        var (space, admin) = context.KeyCaller();
        var id = (string)context.Request.RouteValues["id"]!;
        if (!keys.Revoke(space.Name, id)) throw UnknownKey().ToException();
        audit.Note(space.Name, admin.Actor, "api-key.revoked", $"key:{id}");
        context.Response.StatusCode = 204;
        return Task.CompletedTask;
    }

    static Problem UnknownKey() =>
        new(404, "unknown-key", "No such key", "This space has no key with this id, or it was removed before.",
        "List the keys: rovett key list.");

    static void WriteKey(Utf8JsonWriter json, StoredApiKey stored, string? key)
    {
        json.WriteStartObject();
        json.WriteString("id", stored.Id);
        json.WriteString("name", stored.Name);
        WriteKeyRights(json, stored);
        json.WriteString("created", new StoredTime(stored.Created).ToString());
        if (stored.LastUsed is { } used) json.WriteString("lastUsed", new StoredTime(used).ToString());
        if (stored.Ends is { } ends) json.WriteString("ends", new StoredTime(ends).ToString());
        if (stored.Revoked is { } revoked) json.WriteString("revoked", new StoredTime(revoked).ToString());
        if (key is not null) json.WriteString("key", key);
        json.WriteEndObject();
    }

    static void WriteKeyRights(Utf8JsonWriter json, StoredApiKey stored)
    {
        Texts(json, "scopes", stored.Scopes.Split(','));
        if (stored.Types.Length > 0) Texts(json, "types", ApiKeys.ListOf(stored.Types));
        if (stored.Addresses.Length > 0) Texts(json, "addresses", ApiKeys.ListOf(stored.Addresses));
    }

    static void Texts(Utf8JsonWriter json, string name, IEnumerable<string> texts)
    {
        json.WriteStartArray(name);
        foreach (var text in texts) json.WriteStringValue(text);
        json.WriteEndArray();
    }

    static List<string> List(JsonElement root, string name, List<FieldError> errors, Func<string, string?> check)
    {
        var list = new List<string>();
        if (!root.TryGetProperty(name, out var array)) return list;
        if (array.ValueKind != JsonValueKind.Array || array.GetArrayLength() > MostNarrowed)
        {
            errors.Add(new FieldError(name, $"must be an array of at most {MostNarrowed} texts"));
            return list;
        }
        int i = 0;
        foreach (var item in array.EnumerateArray())
        {
            var wrong = JsonText.TryString(item, out var text) && text.Length > 0 ? check(text) : "must be a text";
            if (wrong is not null) errors.Add(new FieldError($"{name}[{i}]", wrong));
            else if (!list.Contains(text!)) list.Add(text!);
            i++;
        }
        return list;
    }

    /// <summary><c>POST /v1/signing-keys</c>: a secret, made here or given; a public key; or where a key set is.</summary>
    public async Task AddSigningKey(HttpContext context)
    {
        var (space, admin) = context.KeyCaller();
        using var body = await Json.Read(context);
        var errors = new List<FieldError>();
        var root = Json.Object(body, SigningMembers, errors);
        var name = NameOf(root, "which key it is", errors);
        string? kid = null;
        if (root.TryGetProperty("kid", out var given) && (!JsonText.TryString(given, out kid) || kid.Length is 0 or > 256))
        {
            errors.Add(new FieldError("kid", "must be what the header of tokens calls it: 1 to 256 characters"));
        }
        if (root.EnumerateObject().Count(m => m.Name is "publicKey" or "keySet" or "issuer" or "secret") > 1)
        {
            errors.Add(new FieldError("(body)",
                "says more than once what the key is; give one of secret, publicKey, keySet and issuer, or none to have a secret made"));
        }
        var (kind, value, shown) = ValueOf(root, kid, errors);
        if (kind is SigningKeyKind.KeySet or SigningKeyKind.Issuer)
        {
            if (kid is not null) errors.Add(new FieldError("kid", "can't be given for a key set: each of its keys has its own"));
            if (space.Settings.Audiences.Count == 0)
            {
                errors.Add(new FieldError(kind == SigningKeyKind.Issuer ? "issuer" : "keySet",
                    "signs tokens for others too, and this space takes them whatever their audience; set tokens.audiences first (PATCH " +
                    "/v1/settings)"));
            }
        }
        if (errors.Count > 0) throw Problem.Invalid(errors, "Correct the named members; nothing was changed.").ToException();
        var stored = new StoredSigningKey(space.Name, name, kind, kid, value, StoredTime.From(clock.GetUtcNow()).Micros);
        if (!signing.Add(stored))
        {
            throw (signing.Has(space.Name, name)
                ? new Problem(409, "signing-key-exists", "Signing key exists already", $"'{name}' is taken.",
                "Choose another name, or remove that one first.")
                : new Problem(422, "too-many-signing-keys", "Too many signing keys",
                $"The limit is {SigningKeys.Max} for one space.", "Remove keys that are no longer used.")).ToException();
        }
        audit.Note(space.Name, admin.Actor, "signing-key.added", name, json => json.WriteString("kind", KindOf(kind)));
        await Json.Write(context, 201, json => WriteSigningKey(json, stored, null, shown));
    }

    static (SigningKeyKind, byte[] Value, string? Shown) ValueOf(JsonElement root, string? kid, List<FieldError> errors)
    {
        if (root.TryGetProperty("publicKey", out var given))
        {
            if (VerifyingKey.OfJwk(given, "", kid, null, out var wrong) is null) errors.Add(new FieldError("publicKey", wrong));
            else if (new[] { "d", "p", "q", "k" }.FirstOrDefault(m => given.TryGetProperty(m, out _)) is { } secret)
            {
                errors.Add(new FieldError("publicKey." + secret, "is the private part, which must stay where tokens are made; give the " +
                    "public part only, and replace this key: it has been shown"));
            }
            return (SigningKeyKind.PublicKey, Encoding.UTF8.GetBytes(given.GetRawText()), null);
        }
        if (root.TryGetProperty("secret", out given))
        {
            if (!JsonText.TryString(given, out var secret) || Encoding.UTF8.GetByteCount(secret) is < 32 or > 512)
            {
                errors.Add(new FieldError("secret", "must be 32 to 512 bytes of text; leave it out to have one made"));
            }
            return (SigningKeyKind.Secret, Encoding.UTF8.GetBytes(secret ?? ""), null);
        }
        foreach (var (member, kind) in new[] { ("keySet", SigningKeyKind.KeySet), ("issuer", SigningKeyKind.Issuer) })
        {
            if (!root.TryGetProperty(member, out given)) continue;
            if (!JsonText.TryString(given, out var text) || !IsSource(text, mayBeFile: kind == SigningKeyKind.KeySet))
                errors.Add(new FieldError(member, kind == SigningKeyKind.Issuer
                    ? "must be the issuer's https address, exactly as in its tokens"
                    : "must be an https address, or file: and the name of a file in the folder 'keys' of the data folder"));
            return (kind, Encoding.UTF8.GetBytes(text ?? ""), null);
        }
        var made = Secrets.New("");
        return (SigningKeyKind.Secret, Encoding.UTF8.GetBytes(made), made);
    }

    static bool IsSource(string text, bool mayBeFile)
    {
        if (mayBeFile && text.StartsWith(KeySets.FilePrefix, StringComparison.Ordinal))
        {
            var name = text[KeySets.FilePrefix.Length..];
            return name.Length is > 0 and <= 100 && !name.StartsWith('.')
                && name.All(c => char.IsAsciiLetterOrDigit(c) || c is '.' or '-' or '_');
        }
        return text.Length <= 2048 && Uri.TryCreate(text, UriKind.Absolute, out var uri) && uri.Scheme is "https" or "http"
            && uri.UserInfo.Length == 0 && uri.Fragment.Length == 0;
    }

    static string KindOf(SigningKeyKind kind) =>
        kind switch
        {
            SigningKeyKind.Secret => "secret",
            SigningKeyKind.PublicKey => "publicKey",
            SigningKeyKind.KeySet => "keySet",
            _ => "issuer"
        };

    /// <summary><c>GET /v1/signing-keys</c></summary>
    public Task ListSigningKeys(HttpContext context)
    {
        var space = context.KeyCaller().Space;
        return Json.Write(context, 200, json =>
        {
            json.WriteStartObject();
            json.WriteStartArray("signingKeys");
            foreach (var (stored, source) in signing.Of(space.Name)) WriteSigningKey(json, stored, source, null);
            json.WriteEndArray();
            json.WriteEndObject();
        });
    }

    static void WriteSigningKey(Utf8JsonWriter json, StoredSigningKey stored, KeySets.Source? source, string? secret)
    {
        json.WriteStartObject();
        json.WriteString("name", stored.Name);
        json.WriteString("kind", KindOf(stored.Kind));
        if (stored.Kid is not null) json.WriteString("kid", stored.Kid);
        if (stored.Kind == SigningKeyKind.PublicKey)
        {
            json.WritePropertyName("publicKey");
            json.WriteRawValue(stored.Value);
        }
        if (stored.Kind is SigningKeyKind.KeySet or SigningKeyKind.Issuer)
        {
            json.WriteString(KindOf(stored.Kind), Encoding.UTF8.GetString(stored.Value));
        }
        json.WriteString("created", new StoredTime(stored.Created).ToString());
        if (source is not null)
        {
            var (at, count, error) = source.State;
            if (at is { } time) json.WriteString("fetched", StoredTime.From(time).ToString());
            json.WriteNumber("keys", count);
            if (error is not null) json.WriteString("error", error);
        }
        if (secret is not null) json.WriteString("secret", secret);
        json.WriteEndObject();
    }

    /// <summary><c>DELETE /v1/signing-keys/{name}</c>: what was signed with it holds no more, sessions included.</summary>
    public async Task RemoveSigningKey(HttpContext context)
    {
        var (space, admin) = context.KeyCaller();
        var name = (string)context.Request.RouteValues["name"]!;
        if (!signing.Remove(space.Name, name))
        {
            throw new Problem(404, "unknown-signing-key", "No such signing key", "This space has no signing key with this name.",
                "List them: GET /v1/signing-keys.").ToException();
        }
        int ended = 0;
        foreach (var session in sessions.In(space.Name))
        {
            if (session.SigningKey != name) continue;
            session.End("signing-key-removed", null);
            ended++;
        }
        audit.Note(space.Name, admin.Actor, "signing-key.removed", name, json => json.WriteNumber("sessionsEnded", ended));
        await Json.Write(context, 200, json =>
        {
            json.WriteStartObject();
            json.WriteString("removed", name);
            json.WriteNumber("sessionsEnded", ended);
            json.WriteEndObject();
        });
    }

    /// <summary><c>GET /v1/settings</c></summary>
    public Task ShowSettings(HttpContext context)
    {
        var space = context.KeyCaller().Space;
        return Json.Write(context, 200, space.Settings.Write);
    }

    /// <summary><c>PATCH /v1/settings</c>: a JSON merge patch (RFC 7396).</summary>
    public async Task PatchSettings(HttpContext context)
    {
        var (space, admin) = context.KeyCaller();
        using var body = await Json.Read(context);
        if (body.RootElement.ValueKind != JsonValueKind.Object || JsonText.HasBadText(body.RootElement))
        {
            throw Problem.Invalid(
                [new FieldError("(body)", "must be a JSON object with the settings to change; null takes one back to its default")])
                .ToException();
        }
        SpaceSettings settings;
        lock (space)
        {
            var merged = store.Settings(space.Name) is { } text ? (JsonObject)JsonNode.Parse(text)! : [];
            SpaceSettings.Merge(merged, (JsonObject)JsonNode.Parse(body.RootElement.GetRawText())!);
            var errors = new List<FieldError>();
            settings = SpaceSettings.Read(merged, errors);
            if (settings.Audiences.Count == 0 && signing.Of(space.Name).Any(k => k.Source is not null))
            {
                errors.Add(new FieldError("tokens.audiences",
                    "is empty, and a key set signs tokens for others too; name this space's audience, or remove the key set first"));
            }
            if (errors.Count > 0) throw Problem.Invalid(errors, "Correct the named settings; nothing was changed.").ToException();
            store.SaveSettings(space.Name, merged.ToJsonString(), StoredTime.From(clock.GetUtcNow()).Micros);
            space.Settings = settings;
            signing.ForgetVerified(space.Name);
        }
        audit.Note(space.Name, admin.Actor, "settings.changed", space.Name, json =>
        {
            json.WritePropertyName("patch");
            body.RootElement.WriteTo(json);
        });
        await Json.Write(context, 200, settings.Write);
    }

    /// <summary><c>GET /v1/audit</c>: who did what, oldest first.</summary>
    public Task Audit(HttpContext context)
    {
        var space = context.KeyCaller().Space;
        long after = 0;
        if (context.Request.Query.TryGetValue("after", out var text)
            && !long.TryParse(text, NumberStyles.None, CultureInfo.InvariantCulture, out after))
        {
            throw Problem.Invalid([new FieldError("after", "must be the number of a line, as in 'next'")],
                "Correct the named query parameter.").ToException();
        }
        var acts = audit.After(space.Name, after, MostActs);
        return Json.Write(context, 200, json =>
        {
            json.WriteStartObject();
            json.WriteStartArray("acts");
            foreach (var act in acts) AuditTrail.Write(json, act, history);
            json.WriteEndArray();
            if (acts.Count == MostActs) json.WriteNumber("next", acts[^1].Id);
            json.WriteEndObject();
        });
    }
}
