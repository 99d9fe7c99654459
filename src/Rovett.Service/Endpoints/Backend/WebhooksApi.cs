using System.Security.Cryptography;
using Rovett.Service.Audit;
using Rovett.Service.Credentials;
using Rovett.Service.Http;
using Rovett.Service.Outbound;
using Rovett.Service.Receipts;
using Rovett.Service.Spaces;
using Rovett.Storage.Sql;
using Rovett.Storage.Access;

namespace Rovett.Service.Endpoints.Backend;

/// <summary>Webhooks: addresses to which receipts or missed deadlines are posted.</summary>
public sealed class WebhooksApi(ReceiptReader receipts, AccessStore access, WebhookSender sender, OutboundGuard guard, AuditTrail audit,
    SqlHistory history, TimeProvider clock)
{
    const int MaxWebhooks = 32, MaxType = 128;

    /// <summary>Stores a webhook.</summary>
    /// <remarks>Of one that is stored already, the secret and how far it has been told stay, unless a secret is given.</remarks>
    public async Task<WebhookAnswer> PutWebhook(HttpContext context, Given<WebhookRequest> body)
    {
        var (space, key) = context.KeyCaller();
        var name = context.NameInPath();
        var url = WebhookTarget.Url(body.Value.Url, body.Errors);
        var secret = RandomNumberGenerator.GetBytes(32);
        if (body.Value.Secret is { } given && !WebhookTarget.TrySecret(given, out secret)) body.Wrong("secret", WebhookTarget.SecretRule);
        var (states, types) = (body.Value.States ?? [], body.Value.Types ?? []);
        CheckEach(body, "states", states, ReceiptReader.States.Contains, $"must be one of {string.Join(", ", ReceiptReader.States)}");
        CheckEach(body, "types", types, t => t.Length is > 0 and <= MaxType && !t.Contains(','), "must be a type, or its beginning and *");
        var before = access.FindWebhook(space.Name, name);
        var purpose = body.Value.Purpose ?? before?.Purpose ?? StoredWebhook.ForReceipts;
        CheckPurpose(body, purpose, before);
        body.Sound("Correct the named members; nothing was changed.");
        await WebhookTarget.RequireReachable(guard, url!, context.RequestAborted);
        if (before is null && access.Webhooks().Count(w => w.Space == space.Name) >= MaxWebhooks)
        {
            throw new Problem(422, "too-many-webhooks", "Too many webhooks", $"The limit is {MaxWebhooks} for one space.",
                "Remove one that is not used.").ToException();
        }
        bool keepsSecret = before is not null && !body.Has("secret");
        var webhook = new StoredWebhook(space.Name, name, url!.AbsoluteUri, keepsSecret ? before!.Secret : secret, string.Join(',', states),
            string.Join(',', types), StoredTime.From(clock.GetUtcNow()).Micros,
            before?.Delivered ?? (body.Value.After is not null ? 0 : receipts.Bounds(space).Newest), 0, null, null, 0, null, purpose);
        access.SaveWebhook(webhook);
        sender.Refresh();
        // Not the whole address: it may hold a secret.
        audit.Note(space.Name, key.Actor, "webhook.put", name, json => json.WriteString("host", url.Host));
        if (before is null) context.Response.StatusCode = StatusCodes.Status201Created;
        return Answer(space, webhook, showSecret: !keepsSecret);
    }

    static void CheckPurpose(Given<WebhookRequest> body, string purpose, StoredWebhook? before)
    {
        if (before is not null && purpose != before.Purpose)
        {
            body.Wrong("purpose", $"can't be changed; remove the webhook first, whose purpose is '{before.Purpose}'");
        }
        if (purpose != StoredWebhook.ForOtherwise) return;
        foreach (var member in new[] { "states", "types", "after" })
        {
            if (body.Has(member)) body.Wrong(member, "is only for webhooks whose purpose is 'receipts'");
        }
    }

    static void CheckEach(Given<WebhookRequest> body, string member, IReadOnlyList<string> texts, Func<string, bool> allows, string detail)
    {
        for (int i = 0; i < texts.Count; i++)
        {
            if (!allows(texts[i])) body.Wrong($"{member}[{i}]", detail);
        }
    }

    /// <summary>Lists the webhooks.</summary>
    public Task<WebhookList> ListWebhooks(HttpContext context)
    {
        var space = context.KeyCaller().Space;
        return Task.FromResult(new WebhookList
        {
            Webhooks = [.. access.Webhooks().Where(w => w.Space == space.Name).Select(w => Answer(space, w, showSecret: false))],
        });
    }

    /// <summary>Shows a webhook.</summary>
    public Task<WebhookAnswer> ShowWebhook(HttpContext context)
    {
        var space = context.KeyCaller().Space;
        var webhook = access.FindWebhook(space.Name, context.NameInPath()) ?? throw Unknown().ToException();
        return Task.FromResult(Answer(space, webhook, showSecret: false));
    }

    /// <summary>Removes a webhook.</summary>
    public Task<NoAnswer> RemoveWebhook(HttpContext context)
    {
        var (space, key) = context.KeyCaller();
        var name = context.NameInPath();
        if (!access.RemoveWebhook(space.Name, name)) throw Unknown().ToException();
        sender.Refresh();
        audit.Note(space.Name, key.Actor, "webhook.removed", name);
        return NoAnswer.To(context);
    }

    static Problem Unknown() =>
        new(404, "unknown-webhook", "No such webhook", "This space has no webhook with this name.", "List them: GET /v1/webhooks.");

    WebhookAnswer Answer(SpaceRuntime space, StoredWebhook webhook, bool showSecret) => new()
    {
        Name = webhook.Name,
        Url = webhook.Url,
        Secret = showSecret ? WebhookTarget.Text(webhook.Secret) : null,
        Purpose = webhook.Purpose,
        States = webhook.States.Split(',', StringSplitOptions.RemoveEmptyEntries),
        Types = webhook.Types.Split(',', StringSplitOptions.RemoveEmptyEntries),
        State = webhook.Ended is not null ? "ended" : webhook.Failures > 0 ? "failing" : "working",
        Delivered = webhook.Purpose == StoredWebhook.ForReceipts ? space.Receipts.Seal(new Position(webhook.Delivered)) : null,
        Behind = webhook.Purpose == StoredWebhook.ForReceipts ? Math.Max(0, receipts.Bounds(space).Newest - webhook.Delivered)
            : history.CountOutbound(space.Id, webhook.Name),
        Failures = webhook.Failures,
        LastError = webhook.Error,
        LastTried = webhook.Tried is { } tried ? new StoredTime(tried) : null,
        NextTry = webhook.Failures > 0 && webhook.Ended is null && webhook.Next > 0 ? new StoredTime(webhook.Next) : null,
    };
}
