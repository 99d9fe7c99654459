using System.Security.Cryptography;
using Rovett.Service.Audit;
using Rovett.Service.Credentials;
using Rovett.Service.Endpoints.Backend;
using Rovett.Service.Http;
using Rovett.Service.Outbound;
using Rovett.Service.Receipts;
using Rovett.Service.Spaces;
using Rovett.Service.Topics;
using Rovett.Storage.Access;

namespace Rovett.Service.Endpoints.Admin;

/// <summary>The backends that policies ask.</summary>
public sealed class DecidersApi(AccessStore store, Deciders deciders, OutboundGuard guard, AuditTrail audit, TimeProvider clock)
{
    const int Most = 16;

    /// <summary>Stores a decider.</summary>
    /// <remarks>Of one that is stored already, the secret stays unless one is given.</remarks>
    public async Task<DeciderAnswer> PutDecider(HttpContext context, Given<DeciderRequest> body)
    {
        var (space, key) = context.KeyCaller();
        var name = context.NameInPath();
        var url = WebhookTarget.Url(body.Value.Url, body.Errors);
        var before = store.FindDecider(space.Name, name);
        var secret = before?.Secret ?? RandomNumberGenerator.GetBytes(32);
        if (body.Value.Secret is { } given && !WebhookTarget.TrySecret(given, out secret)) body.Wrong("secret", WebhookTarget.SecretRule);
        body.Sound("Correct the named members; nothing was changed.");
        await WebhookTarget.RequireReachable(guard, url!, context.RequestAborted);
        if (before is null && store.Deciders(space.Name).Count >= Most)
        {
            throw new Problem(422, "too-many-deciders", "Too many deciders", $"The limit is {Most} for one space.",
                "Remove one that no policy uses.").ToException();
        }
        var stored = new StoredDecider(space.Name, name, url!.AbsoluteUri, secret, body.Value.TimeoutMs ?? 2000,
            body.Value.AllowSeconds ?? 300, body.Value.DenySeconds ?? 10,
            before?.Created ?? StoredTime.From(clock.GetUtcNow()).Micros);
        store.SaveDecider(stored);
        deciders.Forget(space, name);
        audit.Note(space.Name, key.Actor, "decider.put", name, json => json.WriteString("url", stored.Url));
        if (before is null) context.Response.StatusCode = StatusCodes.Status201Created;
        return Answer(space, stored, showSecret: before is null || body.Has("secret"));
    }

    /// <summary>Lists the deciders.</summary>
    public Task<DeciderList> ListDeciders(HttpContext context)
    {
        var space = context.KeyCaller().Space;
        return Task.FromResult(new DeciderList
        {
            Deciders = [.. store.Deciders(space.Name).Select(d => Answer(space, d, showSecret: false))],
        });
    }

    /// <summary>Shows a decider.</summary>
    public Task<DeciderAnswer> ShowDecider(HttpContext context)
    {
        var space = context.KeyCaller().Space;
        var stored = store.FindDecider(space.Name, context.NameInPath()) ?? throw Unknown().ToException();
        return Task.FromResult(Answer(space, stored, showSecret: false));
    }

    /// <summary>Removes a decider.</summary>
    /// <remarks>Policies that ask it allow nothing from now on.</remarks>
    public Task<NoAnswer> RemoveDecider(HttpContext context)
    {
        var (space, key) = context.KeyCaller();
        var name = context.NameInPath();
        if (!store.RemoveDecider(space.Name, name)) throw Unknown().ToException();
        deciders.Forget(space, name);
        audit.Note(space.Name, key.Actor, "decider.removed", name);
        return NoAnswer.To(context);
    }

    static Problem Unknown() =>
        new(404, "unknown-decider", "No such decider", "This space has no decider with this name.", "List them: GET /v1/deciders.");

    DeciderAnswer Answer(SpaceRuntime space, StoredDecider stored, bool showSecret)
    {
        var state = deciders.StateOf(space, stored.Name);
        return new DeciderAnswer
        {
            Name = stored.Name,
            Url = stored.Url,
            Secret = showSecret ? WebhookTarget.Text(stored.Secret) : null,
            TimeoutMs = (int)stored.TimeoutMs,
            AllowSeconds = (int)stored.AllowSeconds,
            DenySeconds = (int)stored.DenySeconds,
            State = state.Resting ? "resting" : state.Asked == 0 ? "not asked yet"
                : state.LastError is not null && state.Failed == state.Asked ? "failing" : "working",
            Asked = state.Asked,
            Allowed = state.Allowed,
            Denied = state.Denied,
            Failed = state.Failed,
            LastError = state.LastError,
        };
    }
}
