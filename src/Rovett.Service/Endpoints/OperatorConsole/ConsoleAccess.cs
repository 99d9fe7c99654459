using System.Text.Json;
using Rovett.Core.Addresses;
using Rovett.Core.Ledgers.Commands.Directory;
using Rovett.Core.Ledgers.Commands.Topics;
using Rovett.Service.Audit;
using Rovett.Service.Credentials;
using Rovett.Service.Endpoints.Backend;
using Rovett.Service.Http;
using Rovett.Service.Ledgers;
using Rovett.Service.Limits;
using Rovett.Service.Spaces;
using Rovett.Service.Topics;
using Rovett.Storage.Sql;
using Rovett.Storage.Sqlite;

namespace Rovett.Service.Endpoints.OperatorConsole;

/// <summary>The console's page about access: who may, who was refused and why, what limits are at, who signs in here; and,
/// for who may operate, what is done about it.</summary>
public sealed class ConsoleAccess(AccessStore access, Operators operators, SpaceDirectory spaces, LedgerPump ledger,
    SqlHistory history, Origins origins, UsageLimits limits, Deciders deciders, AuditTrail audit)
{
    const int MostActs = 50, MostSignIns = 50;

    /// <summary><c>GET /console/api/access?space=main</c></summary>
    public async Task Show(HttpContext context)
    {
        var space = ConsoleEndpoints.SpaceOf(spaces, context);
        var policies = await ledger.Ask(new FindPoliciesCommand(space.Name, null));
        using var document = policies is null ? null : JsonDocument.Parse(policies.Document);
        await Json.Write(context, 200, json =>
        {
            json.WriteStartObject();
            json.WriteNumber("policyVersion", policies?.Position ?? 0);
            json.WritePropertyName("policies");
            if (document is null) json.WriteRawValue("[]");
            else document.RootElement.GetProperty("policies").WriteTo(json);
            json.WriteStartArray("deciders");
            foreach (var stored in access.Deciders(space.Name))
            {
                var state = deciders.StateOf(space, stored.Name);
                json.WriteStartObject();
                json.WriteString("name", stored.Name);
                json.WriteNumber("asked", state.Asked);
                json.WriteNumber("failed", state.Failed);
                json.WriteBoolean("resting", state.Resting);
                if (state.LastError is not null) json.WriteString("lastError", state.LastError);
                json.WriteEndObject();
            }
            json.WriteEndArray();
            json.WriteStartArray("refusedOrigins");
            foreach (var refused in origins.Refused(space)) refused.Write(json, space);
            json.WriteEndArray();
            json.WriteStartArray("limits");
            foreach (var (name, limit, used, what) in limits.All(space))
            {
                json.WriteStartObject();
                json.WriteString("name", name);
                json.WriteNumber("limit", limit);
                json.WriteNumber("used", used);
                json.WriteString("what", what);
                json.WriteEndObject();
            }
            json.WriteEndArray();
            json.WriteStartArray("acts");
            foreach (var act in audit.Newest(space.Name, MostActs)) AuditTrail.Write(json, act, history);
            json.WriteEndArray();
            json.WriteEndObject();
        });
    }

    /// <summary><c>GET /console/api/explain?space=main&amp;user=teo&amp;on=topic:berth/3</c></summary>
    public async Task Explain(HttpContext context)
    {
        var (user, address) = TopicApi.ExplainQuery(context);
        await TopicApi.WriteExplanation(context, ledger, ConsoleEndpoints.SpaceOf(spaces, context), user, address);
    }

    /// <summary><c>GET /console/api/operators</c>: who may use the console, and the newest sign-ins.</summary>
    public async Task List(HttpContext context)
    {
        await Json.Write(context, 200, json =>
        {
            json.WriteStartObject();
            json.WriteStartArray("operators");
            foreach (var who in access.Operators())
            {
                json.WriteStartObject();
                json.WriteString("name", who.Name);
                json.WriteString("may", who.May);
                json.WriteString("since", new StoredTime(who.Created).ToString());
                json.WriteEndObject();
            }
            json.WriteEndArray();
            json.WriteStartArray("signIns");
            foreach (var at in access.SignIns(MostSignIns))
            {
                json.WriteStartObject();
                json.WriteString("operator", at.Operator);
                json.WriteString("time", new StoredTime(at.Time).ToString());
                json.WriteString("address", at.Address);
                json.WriteString("agent", at.Agent);
                json.WriteBoolean("signedIn", at.SignedIn != 0);
                json.WriteEndObject();
            }
            json.WriteEndArray();
            json.WriteEndObject();
        });
    }

    /// <summary><c>POST /console/api/links</c>: a one-time link for another operator.</summary>
    public async Task MakeLink(HttpContext context)
    {
        var who = context.Operator();
        using var body = await Json.Read(context);
        if (ConsoleEndpoints.Field(body, "may") is not { } may || !Operators.Rights.Contains(may))
        {
            throw Problem.Invalid([new FieldError("may", $"must be one of {string.Join(", ", Operators.Rights)}")]).ToException();
        }
        var link = operators.MakeLink(may);
        audit.Note("main", "operator:" + who.Name, "operator.invited", may);
        context.Response.Headers.CacheControl = "no-store";
        await Json.Write(context, 201, json =>
        {
            json.WriteStartObject();
            json.WriteString("link", $"/console#sign-up={link}");
            json.WriteNumber("minutes", (int)Operators.LinkHolds.TotalMinutes);
            json.WriteEndObject();
        });
    }

    /// <summary><c>POST /v1/console-links</c>: the same for who holds an admin key of <c>main</c>, so that nobody is
    /// locked out of the console.</summary>
    public async Task MakeLinkByKey(HttpContext context)
    {
        var key = context.KeyCaller().Key;
        using var body = await Json.Read(context);
        var errors = new List<FieldError>();
        var root = Json.Object(body, ["may"], errors);
        var may = "operate";
        if (root.TryGetProperty("may", out var given) && (!JsonText.TryString(given, out may!) || !Operators.Rights.Contains(may)))
        {
            errors.Add(new FieldError("may", $"must be one of {string.Join(", ", Operators.Rights)}"));
        }
        if (errors.Count > 0) throw Problem.Invalid(errors).ToException();
        var link = operators.MakeLink(may);
        audit.Note("main", key.Actor, "operator.invited", may);
        context.Response.Headers.CacheControl = "no-store";
        await Json.Write(context, 201, json =>
        {
            json.WriteStartObject();
            json.WriteString("link", $"{context.Request.Scheme}://{context.Request.Host}/console#sign-up={link}");
            json.WriteString("may", may);
            json.WriteNumber("minutes", (int)Operators.LinkHolds.TotalMinutes);
            json.WriteEndObject();
        });
    }

    /// <summary><c>POST /console/api/operators/remove</c></summary>
    public async Task Remove(HttpContext context)
    {
        var who = context.Operator();
        using var body = await Json.Read(context);
        var name = ConsoleEndpoints.Field(body, "name") ?? "";
        if (!access.RemoveOperator(name))
        {
            throw new Problem(409, "operator-stays", "Operator cannot be removed",
                "No operator has this name, or it is the last one who may operate.",
                "Invite another operator who may operate first.").ToException();
        }
        audit.Note("main", "operator:" + who.Name, "operator.removed", name);
        context.Response.StatusCode = 204;
    }

    /// <summary><c>POST /console/api/sign-out-user?space=main</c></summary>
    public async Task SignOutUser(HttpContext context)
    {
        var who = context.Operator();
        var space = ConsoleEndpoints.SpaceOf(spaces, context);
        using var body = await Json.Read(context);
        if (Names.Check(ConsoleEndpoints.Field(body, "user"), false, out var user) is { } wrong)
        {
            throw Problem.Invalid([new FieldError("user", wrong)]).ToException();
        }
        var (row, ended) = await ledger.Ask(new SignOutCommand(space.Name, user));
        audit.Note(space.Name, "operator:" + who.Name, "user.signed-out", AuditTrail.Person(row.Id),
            json => json.WriteNumber("sessionsEnded", ended));
        context.Response.StatusCode = 204;
    }
}
