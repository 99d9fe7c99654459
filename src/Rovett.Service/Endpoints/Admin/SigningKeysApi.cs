using System.Text;
using System.Text.Json;
using Rovett.Service.Audit;
using Rovett.Service.Credentials;
using Rovett.Service.Http;
using Rovett.Service.Live;
using Rovett.Storage.Access;

namespace Rovett.Service.Endpoints.Admin;

/// <summary>Signing keys.</summary>
public sealed class SigningKeysApi(SigningKeys signing, AuditTrail audit, SessionRegistry sessions, TimeProvider clock)
{
    /// <summary>Adds a signing key.</summary>
    /// <remarks>A secret, created here or given; a public key; or where a key set is. A secret that is created is shown in
    /// this answer and never again.</remarks>
    public Task<SigningKeyAnswer> AddSigningKey(HttpContext context, Given<SigningKeyRequest> body)
    {
        var (space, admin) = context.KeyCaller();
        var name = body.NameIn(body.Value.Name, "which key it is");
        var kid = body.Value.Kid;
        if (new[] { "publicKey", "keySet", "issuer", "secret" }.Count(body.Has) > 1)
        {
            body.Wrong("(body)",
                "says more than once what the key is; give one of secret, publicKey, keySet and issuer, or none to have a secret made");
        }
        var (kind, value, shown) = ValueOf(body);
        if (kind is SigningKeyKind.KeySet or SigningKeyKind.Issuer)
        {
            if (body.Has("kid")) body.Wrong("kid", "can't be given for a key set: each of its keys has its own");
            if (space.Settings.Audiences.Count == 0)
            {
                body.Wrong(kind == SigningKeyKind.Issuer ? "issuer" : "keySet",
                    "signs tokens for others too, and this space takes them whatever their audience; set tokens.audiences first (PATCH " +
                    "/v1/settings)");
            }
        }
        body.Sound("Correct the named members; nothing was changed.");
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
        context.Response.StatusCode = StatusCodes.Status201Created;
        return Task.FromResult(Answer(stored, null, shown));
    }

    static (SigningKeyKind, byte[] Value, string? Shown) ValueOf(Given<SigningKeyRequest> body)
    {
        var given = body.Value;
        if (body.Has("publicKey")) return (SigningKeyKind.PublicKey, PublicKeyOf(body), null);
        if (body.Has("secret"))
        {
            if (body.IsSound("secret") && Encoding.UTF8.GetByteCount(given.Secret ?? "") is < 32 or > 512)
            {
                body.Wrong("secret", "must be 32 to 512 bytes of text; leave it out to have one made");
            }
            return (SigningKeyKind.Secret, Encoding.UTF8.GetBytes(given.Secret ?? ""), null);
        }
        if (body.Has("keySet"))
        {
            if (!IsSource(given.KeySet ?? "", mayBeFile: true))
            {
                body.Wrong("keySet", "must be an https address, or file: and the name of a file in the folder 'keys' of the data folder");
            }
            return (SigningKeyKind.KeySet, Encoding.UTF8.GetBytes(given.KeySet ?? ""), null);
        }
        if (body.Has("issuer"))
        {
            if (!IsSource(given.Issuer ?? "", mayBeFile: false))
            {
                body.Wrong("issuer", "must be the issuer's https address, exactly as in its tokens");
            }
            return (SigningKeyKind.Issuer, Encoding.UTF8.GetBytes(given.Issuer ?? ""), null);
        }
        var made = Secrets.New("");
        return (SigningKeyKind.Secret, Encoding.UTF8.GetBytes(made), made);
    }

    static byte[] PublicKeyOf(Given<SigningKeyRequest> body)
    {
        if (body.Value.PublicKey is not { } jwk) return [];
        if (VerifyingKey.OfJwk(jwk, "", body.Value.Kid, null, out var wrong) is null) body.Wrong("publicKey", wrong);
        else if (new[] { "d", "p", "q", "k" }.FirstOrDefault(m => jwk.TryGetProperty(m, out _)) is { } secret)
        {
            body.Wrong("publicKey." + secret,
                "is the private part, which must stay where tokens are made; give the public part only, and " +
                "replace this key: it has been shown");
        }
        return Encoding.UTF8.GetBytes(jwk.GetRawText());
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

    /// <summary>Lists the signing keys.</summary>
    public Task<SigningKeyList> ListSigningKeys(HttpContext context) => Task.FromResult(new SigningKeyList
    {
        SigningKeys = [.. signing.Of(context.KeyCaller().Space.Name).Select(k => Answer(k.Stored, k.Source, null))],
    });

    /// <summary>Shows a signing key.</summary>
    public Task<SigningKeyAnswer> ShowSigningKey(HttpContext context)
    {
        var name = (string)context.Request.RouteValues["name"]!;
        var found = signing.Of(context.KeyCaller().Space.Name).FirstOrDefault(k => k.Stored.Name == name);
        return Task.FromResult(found.Stored is { } stored ? Answer(stored, found.Source, null) : throw Unknown().ToException());
    }

    static Problem Unknown() => new(404, "unknown-signing-key", "No such signing key", "This space has no signing key with this name.",
        "List them: GET /v1/signing-keys.");

    static SigningKeyAnswer Answer(StoredSigningKey stored, KeySets.Source? source, string? secret)
    {
        var state = source?.State;
        return new SigningKeyAnswer
        {
            Name = stored.Name,
            Kind = KindOf(stored.Kind),
            Kid = stored.Kid,
            PublicKey = stored.Kind == SigningKeyKind.PublicKey ? JsonElement.Parse(stored.Value) : null,
            KeySet = stored.Kind == SigningKeyKind.KeySet ? Encoding.UTF8.GetString(stored.Value) : null,
            Issuer = stored.Kind == SigningKeyKind.Issuer ? Encoding.UTF8.GetString(stored.Value) : null,
            Created = new StoredTime(stored.Created),
            Fetched = state?.Item1 is { } time ? StoredTime.From(time) : null,
            Keys = state?.Item2,
            Error = state?.Item3,
            Secret = secret,
        };
    }

    /// <summary>Removes a signing key.</summary>
    /// <remarks>Tokens and tickets that were signed with it are refused from now on, and their sessions end.</remarks>
    public Task<RemovedAnswer> RemoveSigningKey(HttpContext context)
    {
        var (space, admin) = context.KeyCaller();
        var name = (string)context.Request.RouteValues["name"]!;
        if (!signing.Remove(space.Name, name)) throw Unknown().ToException();
        int ended = 0;
        foreach (var session in sessions.In(space.Name))
        {
            if (session.Credential.SigningKey != name) continue;
            session.End("signing-key-removed", null);
            ended++;
        }
        audit.Note(space.Name, admin.Actor, "signing-key.removed", name, json => json.WriteNumber("sessionsEnded", ended));
        return Task.FromResult(new RemovedAnswer { Removed = name, SessionsEnded = ended });
    }
}
