using System.Security.Cryptography;
using System.Text;
using System.Text.Json;
using Microsoft.Extensions.Hosting;
using Rovett.Core.Addresses;
using Rovett.Core.Delivery;
using Rovett.Core.Wire;
using Rovett.Core.Wire.Sse;
using Rovett.Service.Audit;
using Rovett.Service.Credentials;
using Rovett.Service.Http;
using Rovett.Service.Limits;
using Rovett.Service.Outbound;
using Rovett.Service.Receipts;
using Rovett.Service.Spaces;
using Rovett.Storage.Sqlite;

namespace Rovett.Service.Endpoints.Backend;

/// <summary>Receipts for backends: a stream that can be resumed, pages, and webhooks.</summary>
public sealed class ReceiptApi(ApiKeys keys, ReceiptReader receipts, ReceiptNews news, AccessStore access,
    WebhookSender sender, OutboundGuard guard, AuditTrail audit, TimeProvider clock, SessionLimits limits,
    IHostApplicationLifetime lifetime)
{
    const int Rows = 100, MaxWebhooks = 32;
    static readonly string[] Members = ["url", "secret", "states", "types", "after"];

    /// <summary><c>GET /v1/receipts</c></summary>
    public Task Receipts(HttpContext context)
    {
        var (space, key) = context.KeyCaller();
        bool stream = context.Request.Headers.Accept.ToString().Contains("text/event-stream", StringComparison.OrdinalIgnoreCase);
        var (after, foreign) = Start(context, space, stream);
        return stream ? Stream(context, space, key, after, foreign) : Page(context, space, after, foreign);
    }

    /// <summary>Where to begin: after a cursor; a page without one at the oldest kept, a stream at what comes from now on.</summary>
    (long After, bool Foreign) Start(HttpContext context, SpaceRuntime space, bool stream)
    {
        var header = context.Request.Headers["Last-Event-ID"].ToString();
        var cursor = header.Length > 0 ? header : context.Request.Query["after"].ToString();
        if (cursor == "start" || (cursor.Length == 0 && !stream)) return (0, false);
        if (cursor is "now" or "") return (receipts.Bounds(space).Newest, false);
        return space.Receipts.Open(cursor, out var position) switch
        {
            CursorState.Valid => (position.Value, false),
            CursorState.Foreign => (0, true),
            _ => throw Problem.Invalid(
                [new FieldError(header.Length > 0 ? "Last-Event-ID" : "after",
                "is not a cursor of receipts; pass on one that came with a receipt, or start, or now")],
                "Correct the named parameter.").ToException(),
        };
    }

    /// <summary>What was lost before a number: receipts that are not kept any more, or all of another life of the store.</summary>
    string? Gap(SpaceRuntime space, long after, bool foreign) =>
        foreign ? "new-life" : after > 0 && receipts.Bounds(space).Oldest > after + 1 ? "retention" : null;

    async Task Page(HttpContext context, SpaceRuntime space, long after, bool foreign)
    {
        var gap = Gap(space, after, foreign);
        var (messages, next) = receipts.After(space, after, Rows);
        await Json.Write(context, 200, json =>
        {
            json.WriteStartObject();
            if (gap is not null) json.WriteString("gap", gap);
            json.WriteStartArray("receipts");
            foreach (var message in messages) json.WriteRawValue(message.Json);
            json.WriteEndArray();
            json.WriteString("cursor", space.Receipts.Seal(new Position(next)));
            json.WriteBoolean("more", receipts.Bounds(space).Newest > next);
            json.WriteEndObject();
        });
    }

    async Task Stream(HttpContext context, SpaceRuntime space, ApiKey key, long after, bool foreign)
    {
        Connections.IsStream(context);
        Connections.Keep(context);
        var response = context.Response;
        response.ContentType = "text/event-stream";
        response.Headers.CacheControl = "no-cache";
        response.Headers["X-Accel-Buffering"] = "no";
        using var ended = CancellationTokenSource.CreateLinkedTokenSource(context.RequestAborted, lifetime.ApplicationStopping);
        void Revoked(string where, string id)
        {
            if (where == space.Name && id == key.Stored.Id) ended.Cancel();
        }
        keys.Revoked += Revoked;
        try
        {
            if (!keys.StillHolds(key)) return; // while it was let in
            await response.StartAsync(ended.Token);
            var start = space.Receipts.Seal(new Position(after));
            await Write("opened", start,
                Encoding.UTF8.GetBytes($"{{\"kind\":\"opened\",\"cursor\":\"{start}\",\"space\":{JsonSerializer.Serialize(space.Name)}}}"));
            if (Gap(space, after, foreign) is { } gap)
            {
                await Write("gap", null, Encoding.UTF8.GetBytes($"{{\"kind\":\"gap\",\"why\":\"{gap}\"}}"));
            }
            for (; ; )
            {
                var next = news.Next(space.Name);
                var (messages, through) = receipts.After(space, after, Rows);
                foreach (var message in messages) await Write("receipt", message.Cursor, message.Json);
                if (through > after)
                {
                    after = through;
                    continue;
                }
                using var waiting = CancellationTokenSource.CreateLinkedTokenSource(ended.Token);
                bool quiet = await Task.WhenAny(next, Task.Delay(limits.Heartbeat, clock, waiting.Token)) != next;
                await waiting.CancelAsync();
                ended.Token.ThrowIfCancellationRequested();
                if (quiet && !keys.StillHolds(key)) return; // it was followed by another
                if (quiet) await response.BodyWriter.WriteAsync(":\n\n"u8.ToArray(), ended.Token);
            }
        }
        catch (Exception gone) when (gone is OperationCanceledException or IOException)
        {
        }
        finally
        {
            keys.Revoked -= Revoked;
        }

        async Task Write(string name, string? id, byte[] json)
        {
            // Cut off once the other side is gone.
            var result = await response.BodyWriter.WriteAsync(SseWriter.Event(name, id, json), ended.Token);
            if (result.IsCompleted) throw new IOException("The stream is closed.");
        }
    }

    /// <summary><c>PUT /v1/webhooks/{name}</c></summary>
    public async Task PutWebhook(HttpContext context)
    {
        var (space, key) = context.KeyCaller();
        var name = NameOf(context);
        using var body = await Json.Read(context);
        var errors = new List<FieldError>();
        var root = Json.Object(body, Members, errors);
        root.TryGetProperty("url", out var given);
        var url = WebhookTarget.Url(given, errors);
        var secret = RandomNumberGenerator.GetBytes(32);
        if (root.TryGetProperty("secret", out given) && !WebhookTarget.TrySecret(given, out secret))
        {
            errors.Add(new FieldError("secret", WebhookTarget.SecretRule));
        }
        var states = List(root, "states", errors,
            s => ReceiptReader.States.Contains(s) ? null : $"must be one of {string.Join(", ", ReceiptReader.States)}");
        var types = List(root, "types", errors,
            t => t.Length is > 0 and <= 128 && !t.Contains(',') ? null : "must be a type, or its beginning and *");
        bool fromStart = false;
        if (root.TryGetProperty("after", out given))
        {
            fromStart = given.ValueKind == JsonValueKind.String && given.ValueEquals("start");
            if (!fromStart) errors.Add(new FieldError("after", "must be start, or left out for what comes from now on"));
        }
        if (errors.Count > 0) throw Problem.Invalid(errors, "Correct the named members; nothing was changed.").ToException();
        await WebhookTarget.RequireReachable(guard, url!, context.RequestAborted);
        var before = access.FindWebhook(space.Name, name);
        if (before is null && access.Webhooks().Count(w => w.Space == space.Name) >= MaxWebhooks)
        {
            throw new Problem(422, "too-many-webhooks", "Too many webhooks", $"The limit is {MaxWebhooks} for one space.",
                "Remove one that is not used.").ToException();
        }
        bool keepsSecret = before is not null && !root.TryGetProperty("secret", out _);
        var webhook = new StoredWebhook(space.Name, name, url!.AbsoluteUri, keepsSecret ? before!.Secret : secret, string.Join(',', states),
            string.Join(',', types), Now(), before?.Delivered ?? (fromStart ? 0 : receipts.Bounds(space).Newest), 0, null, null, 0, null);
        access.SaveWebhook(webhook);
        sender.Refresh();
        // Not the whole address: it may hold a secret.
        audit.Note(space.Name, key.Actor, "webhook.put", name, json => json.WriteString("host", url.Host));
        await Json.Write(context, before is null ? 201 : 200, json => WriteWebhook(json, space, webhook, showSecret: !keepsSecret));
    }

    /// <summary><c>GET /v1/webhooks</c></summary>
    public Task ListWebhooks(HttpContext context)
    {
        var space = context.KeyCaller().Space;
        return Json.Write(context, 200, json =>
        {
            json.WriteStartObject();
            json.WriteStartArray("webhooks");
            foreach (var webhook in access.Webhooks().Where(w => w.Space == space.Name))
            {
                WriteWebhook(json, space, webhook, showSecret: false);
            }
            json.WriteEndArray();
            json.WriteEndObject();
        });
    }

    /// <summary><c>GET /v1/webhooks/{name}</c></summary>
    public Task ShowWebhook(HttpContext context)
    {
        var space = context.KeyCaller().Space;
        var webhook = access.FindWebhook(space.Name, NameOf(context)) ?? throw Unknown().ToException();
        return Json.Write(context, 200, json => WriteWebhook(json, space, webhook, showSecret: false));
    }

    /// <summary><c>DELETE /v1/webhooks/{name}</c></summary>
    public Task RemoveWebhook(HttpContext context)
    {
        var (space, key) = context.KeyCaller();
        var name = NameOf(context);
        if (!access.RemoveWebhook(space.Name, name)) throw Unknown().ToException();
        sender.Refresh();
        audit.Note(space.Name, key.Actor, "webhook.removed", name);
        context.Response.StatusCode = 204;
        return Task.CompletedTask;
    }

    static string NameOf(HttpContext context) =>
        Names.Check((string)context.Request.RouteValues["name"]!, false, out var name) is { } wrong
        ? throw Problem.Invalid([new FieldError("name", wrong)]).ToException()
        : name;

    static Problem Unknown() =>
        new(404, "unknown-webhook", "No such webhook", "This space has no webhook with this name.", "List them: GET /v1/webhooks.");

    long Now() => StoredTime.From(clock.GetUtcNow()).Micros;

    static List<string> List(JsonElement root, string member, List<FieldError> errors, Func<string, string?> check)
    {
        var list = new List<string>();
        if (!root.TryGetProperty(member, out var given)) return list;
        if (given.ValueKind != JsonValueKind.Array || given.GetArrayLength() > 32)
        {
            errors.Add(new FieldError(member, "must be an array of at most 32 texts"));
            return list;
        }
        foreach (var item in given.EnumerateArray())
        {
            if (!JsonText.TryString(item, out var text)) errors.Add(new FieldError($"{member}[{list.Count}]", "must be a text"));
            else if (check(text) is { } wrong) errors.Add(new FieldError($"{member}[{list.Count}]", wrong));
            else list.Add(text);
        }
        return list;
    }

    void WriteWebhook(Utf8JsonWriter json, SpaceRuntime space, StoredWebhook webhook, bool showSecret)
    {
        json.WriteStartObject();
        json.WriteString("name", webhook.Name);
        json.WriteString("url", webhook.Url);
        if (showSecret) json.WriteString("secret", WebhookTarget.Text(webhook.Secret));
        WriteList("states", webhook.States);
        WriteList("types", webhook.Types);
        json.WriteString("state", webhook.Ended is not null ? "ended" : webhook.Failures > 0 ? "failing" : "working");
        json.WriteString("delivered", space.Receipts.Seal(new Position(webhook.Delivered)));
        json.WriteNumber("behind", Math.Max(0, receipts.Bounds(space).Newest - webhook.Delivered));
        json.WriteNumber("failures", webhook.Failures);
        if (webhook.Error is not null) json.WriteString("lastError", webhook.Error);
        if (webhook.Tried is { } tried) json.WriteString("lastTried", new StoredTime(tried).ToString());
        if (webhook.Failures > 0 && webhook.Ended is null) json.WriteString("nextTry", new StoredTime(webhook.Next).ToString());
        json.WriteEndObject();

        void WriteList(string member, string list)
        {
            json.WriteStartArray(member);
            foreach (var item in list.Split(',', StringSplitOptions.RemoveEmptyEntries)) json.WriteStringValue(item);
            json.WriteEndArray();
        }
    }
}
