using System.Security.Cryptography;
using System.Text.Json;
using Rovett.Core.Addresses;
using Rovett.Service.Audit;
using Rovett.Service.Credentials;
using Rovett.Service.Http;
using Rovett.Service.Outbound;
using Rovett.Service.Receipts;
using Rovett.Service.Spaces;
using Rovett.Service.Topics;
using Rovett.Storage.Sqlite;

namespace Rovett.Service.Endpoints.Admin;

/// <summary>The backends that policies ask. All of it needs the scope <c>admin</c>.</summary>
public sealed class DeciderApi(AccessStore store, Deciders deciders, OutboundGuard guard,
    AuditTrail audit, TimeProvider clock)
{
    const int Most = 16;
    static readonly string[] Members = ["url", "secret", "timeoutMs", "allowSeconds", "denySeconds"];

    /// <summary><c>PUT /v1/deciders/{name}</c></summary>
    public async Task Put(HttpContext context)
    {
        var (space, key) = context.KeyCaller();
        var name = NameOf(context);
        using var body = await Json.Read(context);
        var errors = new List<FieldError>();
        var root = Json.Object(body, Members, errors);
        root.TryGetProperty("url", out var given);
        var url = WebhookTarget.Url(given, errors);
        var before = store.FindDecider(space.Name, name);
        var secret = before?.Secret ?? RandomNumberGenerator.GetBytes(32);
        bool showSecret = before is null;
        if (root.TryGetProperty("secret", out given))
        {
            if (!WebhookTarget.TrySecret(given, out secret)) errors.Add(new FieldError("secret", WebhookTarget.SecretRule));
            showSecret = true;
        }
        int Number(string member, int low, int high, int otherwise)
        {
            if (!root.TryGetProperty(member, out var value)) return otherwise;
            if (value.ValueKind == JsonValueKind.Number && value.TryGetInt32(out int number) && number >= low && number <= high)
            {
                return number;
            }
            errors.Add(new FieldError(member, $"must be a whole number from {low} to {high}"));
            return low;
        }
        int timeout = Number("timeoutMs", 50, 10_000, 2000), allow = Number("allowSeconds", 1, 86_400, 300),
            deny = Number("denySeconds", 0, 86_400, 10);
        if (errors.Count > 0) throw Problem.Invalid(errors, "Correct the named members; nothing was changed.").ToException();
        await WebhookTarget.RequireReachable(guard, url!, context.RequestAborted);
        if (before is null && store.Deciders(space.Name).Count >= Most)
        {
            throw new Problem(422, "too-many-deciders", "Too many deciders", $"The limit is {Most} for one space.",
                "Remove one that no policy uses.").ToException();
        }
        var stored = new StoredDecider(space.Name, name, url!.AbsoluteUri, secret, timeout, allow, deny,
            before?.Created ?? StoredTime.From(clock.GetUtcNow()).Micros);
        store.SaveDecider(stored);
        deciders.Forget(space, name);
        audit.Note(space.Name, key.Actor, "decider.put", name, json => json.WriteString("url", stored.Url));
        await Json.Write(context, before is null ? 201 : 200, json => Write(json, space, stored, showSecret));
    }

    /// <summary><c>GET /v1/deciders</c></summary>
    public Task List(HttpContext context)
    {
        var space = context.KeyCaller().Space;
        return Json.Write(context, 200, json =>
        {
            json.WriteStartObject();
            json.WriteStartArray("deciders");
            foreach (var stored in store.Deciders(space.Name)) Write(json, space, stored, false);
            json.WriteEndArray();
            json.WriteEndObject();
        });
    }

    /// <summary><c>GET /v1/deciders/{name}</c></summary>
    public Task Show(HttpContext context)
    {
        var space = context.KeyCaller().Space;
        var stored = store.FindDecider(space.Name, NameOf(context)) ?? throw Unknown().ToException();
        return Json.Write(context, 200, json => Write(json, space, stored, false));
    }

    /// <summary><c>DELETE /v1/deciders/{name}</c></summary>
    public Task Remove(HttpContext context)
    {
        var (space, key) = context.KeyCaller();
        var name = NameOf(context);
        if (!store.RemoveDecider(space.Name, name)) throw Unknown().ToException();
        deciders.Forget(space, name);
        audit.Note(space.Name, key.Actor, "decider.removed", name);
        context.Response.StatusCode = 204;
        return Task.CompletedTask;
    }

    static string NameOf(HttpContext context) =>
        Names.Check((string)context.Request.RouteValues["name"]!, false, out var name) is { } wrong
        ? throw Problem.Invalid([new FieldError("name", wrong)]).ToException()
        : name;

    static Problem Unknown() =>
        new(404, "unknown-decider", "No such decider", "This space has no decider with this name.", "List them: GET /v1/deciders.");

    void Write(Utf8JsonWriter json, SpaceRuntime space, StoredDecider stored, bool showSecret)
    {
        var state = deciders.StateOf(space, stored.Name);
        json.WriteStartObject();
        json.WriteString("name", stored.Name);
        json.WriteString("url", stored.Url);
        if (showSecret) json.WriteString("secret", WebhookTarget.Text(stored.Secret));
        json.WriteNumber("timeoutMs", stored.TimeoutMs);
        json.WriteNumber("allowSeconds", stored.AllowSeconds);
        json.WriteNumber("denySeconds", stored.DenySeconds);
        json.WriteString("state", state.Resting ? "resting" : state.Asked == 0 ? "not asked yet" : state.LastError is not null
            && state.Failed == state.Asked ? "failing" : "working");
        json.WriteNumber("asked", state.Asked);
        json.WriteNumber("allowed", state.Allowed);
        json.WriteNumber("denied", state.Denied);
        json.WriteNumber("failed", state.Failed);
        if (state.LastError is not null) json.WriteString("lastError", state.LastError);
        json.WriteEndObject();
    }
}
