using Rovett.Core.Addresses;
using Rovett.Core.Ledgers.Commands.Spaces;
using Rovett.Service.Audit;
using Rovett.Service.Credentials;
using Rovett.Service.Http;
using Rovett.Service.Ledgers;
using Rovett.Service.Live;
using Rovett.Service.Receipts;
using Rovett.Service.Spaces;
using Rovett.Service.Topics;
using Rovett.Storage.Sqlite;

namespace Rovett.Service.Endpoints.Admin;

/// <summary>Spaces are made and removed by whoever holds an admin key of <c>main</c>.</summary>
public sealed class SpaceApi(SpaceDirectory spaces, SpaceKeeper keeper, ApiKeys keys, SigningKeys signing, LedgerPump ledger,
    AccessStore store, SessionRegistry sessions, WebhookSender webhooks, Deciders deciders, AuditTrail audit)
{
    const int Most = 1000;

    /// <summary><c>GET /v1/spaces</c></summary>
    public Task List(HttpContext context)
    {
        return Json.Write(context, 200, json =>
        {
            json.WriteStartObject();
            json.WriteStartArray("spaces");
            foreach (var space in spaces.All.OrderBy(s => s.Id))
            {
                json.WriteStartObject();
                json.WriteString("name", space.Name);
                json.WriteString("path", space.PathPrefix + "/v1");
                json.WriteNumber("sessions", sessions.In(space.Name).Count());
                json.WriteEndObject();
            }
            json.WriteEndArray();
            json.WriteEndObject();
        });
    }

    /// <summary><c>POST /v1/spaces</c>: answers its first credentials, shown this once.</summary>
    public async Task Make(HttpContext context)
    {
        var admin = context.KeyCaller().Key;
        using var body = await Json.Read(context);
        var errors = new List<FieldError>();
        var root = Json.Object(body, ["name"], errors);
        string name = "";
        if (!root.TryGetProperty("name", out var given) || !JsonText.TryString(given, out var text))
        {
            errors.Add(new FieldError("name", "must be what the space is called: 1 to 128 characters"));
        }
        else if (Names.CheckForPath(text, out name) is { } wrong) errors.Add(new FieldError("name", wrong));
        if (errors.Count > 0) throw Problem.Invalid(errors).ToException();
        if (spaces.Find(name) is not null)
        {
            throw new Problem(409, "space-exists", "Space exists already", $"'{name}' is taken.",
                "Choose another name.").ToException();
        }
        if (spaces.All.Count() >= Most)
        {
            throw new Problem(422, "too-many-spaces", "Too many spaces", $"The limit is {Most} for one service.",
                "Remove one that is not used.").ToException();
        }
        if (spaces.RestsFor(name) is { } seconds)
        {
            throw new Problem(409, "space-name-rests", "Space name not free yet",
                "A space with this name was removed less than a minute ago.",
                "Wait for the seconds in Retry-After, or choose another name.")
            { RetryAfterSeconds = seconds }.ToException();
        }
        var row = await ledger.Ask(new AddSpaceCommand(name, SpaceKeeper.NewKey()));
        store.RemoveSpace(name); // what a removal that was cut short may have left
        store.BeginSpace(name);
        var made = keeper.FirstCredentials(name)!;
        keeper.Keep(made);
        spaces.Add(keeper.Open(row, null));
        audit.Note("main", admin.Actor, "space.made", name);
        context.Response.Headers.CacheControl = "no-store";
        await Json.Write(context, 201, json =>
        {
            json.WriteStartObject();
            json.WriteString("name", name);
            json.WriteString("path", spaces.Find(name)!.PathPrefix + "/v1");
            json.WriteStartObject("credentials");
            json.WriteString("adminKey", made.AdminKey);
            json.WriteString("tokenSigningSecret", made.TokenSigningSecret);
            json.WriteEndObject();
            json.WriteEndObject();
        });
    }

    /// <summary><c>DELETE /v1/spaces/{name}</c>: its credentials and sessions end at once; what it stored goes in small steps.</summary>
    public async Task Remove(HttpContext context)
    {
        var admin = context.KeyCaller().Key;
        var name = (string)context.Request.RouteValues["name"]!;
        if (name == "main")
        {
            throw new Problem(409, "space-main", "Space main cannot be removed", "The space main always exists.",
                "Remove its users, keys and policies instead.").ToException();
        }
        if (spaces.Find(name) is not { } space)
        {
            throw new Problem(404, "unknown-space", "No such space", "No space has this name.",
                "List them: GET /v1/spaces.").ToException();
        }
        int ended = await ledger.Ask(new RemoveSpaceCommand(name)); // should it fail, nothing is removed
        spaces.Remove(space);
        store.RemoveSpace(name);
        keys.Forget();
        signing.ForgetVerified(name);
        webhooks.Refresh();
        deciders.Forget(space, null);
        foreach (var session in sessions.In(name).Where(s => s.Space == space)) session.End("space-removed", null);
        audit.Note("main", admin.Actor, "space.removed", name, json => json.WriteNumber("sessionsEnded", ended));
        await Json.Write(context, 200, json =>
        {
            json.WriteStartObject();
            json.WriteString("removed", name);
            json.WriteNumber("sessionsEnded", ended);
            json.WriteEndObject();
        });
    }
}
