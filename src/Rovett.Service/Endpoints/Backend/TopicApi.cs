using System.Buffers;
using System.Globalization;
using System.Text.Json;
using Rovett.Core.Addresses;
using Rovett.Core.Ledgers.Commands.Topics;
using Rovett.Core.Policies;
using Rovett.Core.Store;
using Rovett.Core.Wire;
using Rovett.Service.Audit;
using Rovett.Service.Credentials;
using Rovett.Service.Http;
using Rovett.Service.Ledgers;
using Rovett.Service.Options;
using Rovett.Service.Spaces;

namespace Rovett.Service.Endpoints.Backend;

/// <summary>Who may do what on topics, for backends: policies, grants, and why somebody may or may not.</summary>
public sealed class TopicApi(SigningKeys signing, LedgerPump ledger, AuditTrail audit,
    TimeProvider clock)
{
    const int MostListed = 500;
    static readonly TimeSpan LongestGrant = TimeSpan.FromDays(3660);
    readonly SemaphoreSlim loading = new(1); // what tokens are read for must be that of the newest version
    static readonly string[] GrantMembers = ["user", "role", "topic", "may", "for", "until"];

    /// <summary><c>GET /v1/policies</c>, or the version that held at a position: <c>?version=41</c></summary>
    public async Task ShowPolicies(HttpContext context)
    {
        var space = context.KeyCaller().Space;
        long? at = Number(context, "version");
        var version = await ledger.Ask(new FindPoliciesCommand(space.Name, at));
        if (at is not null && version?.Position != at)
        {
            throw new Problem(404, "unknown-version", "No such version", $"No policies were loaded as version {at}.",
                "Read the version in effect: GET /v1/policies.").ToException();
        }
        await Json.Write(context, 200, json => Write(json, version));
    }

    static void Write(Utf8JsonWriter json, PolicyVersion? version)
    {
        json.WriteStartObject();
        json.WriteNumber("version", version?.Position ?? 0);
        if (version is not null) json.WriteString("loaded", version.Time.ToString());
        using var document = version is null ? null : JsonDocument.Parse(version.Document);
        json.WritePropertyName("policies");
        if (document is null) json.WriteRawValue("[]");
        else document.RootElement.GetProperty("policies").WriteTo(json);
        json.WriteEndObject();
    }

    /// <summary><c>PUT /v1/policies</c>: all of them, as one version, or none. <c>If-Match: "41"</c> only in place of
    /// that version; <c>?dryRun=true</c> only checks.</summary>
    public async Task PutPolicies(HttpContext context)
    {
        var (space, key) = context.KeyCaller();
        if (context.Features.Get<Microsoft.AspNetCore.Http.Features.IHttpMaxRequestBodySizeFeature>() is { IsReadOnly: false } limit)
        {
            limit.MaxRequestBodySize = Math.Max(limit.MaxRequestBodySize ?? 0, 4 << 20);
        }
        using var body = await Json.Read(context);
        var errors = new List<FieldError>();
        long? inPlaceOf = null;
        if (context.Request.Headers.IfMatch.ToString() is { Length: > 0 } tag)
        {
            inPlaceOf = long.TryParse(tag.Trim('"'), NumberStyles.None, CultureInfo.InvariantCulture, out long expected) ? expected : null;
            if (inPlaceOf is null) errors.Add(new FieldError("If-Match", "must be the version that is to be replaced, in quotes: \"41\""));
        }
        var policies = JsonText.HasBadText(body.RootElement) ? PolicySet.None : PolicyReader.Read(body.RootElement, errors);
        if (JsonText.HasBadText(body.RootElement)) errors.Add(new FieldError("(body)", "contains half of a surrogate pair"));
        if (errors.Count > 0)
        {
            throw Problem.Invalid(errors, "Correct the named policies; the version that held before holds still.").ToException();
        }
        if (context.Request.Query["dryRun"] == "true")
        {
            await Json.Write(context, 200, json => Loaded(json, null, policies));
            return;
        }
        PolicyVersion version;
        await loading.WaitAsync(context.RequestAborted);
        try
        {
            // Tokens are read for what the new policies look at from before they hold, so that none is overlooked.
            space.ClaimPaths = [.. space.ClaimPaths.Union(policies.ClaimPaths)];
            signing.ForgetVerified(space.Name);
            version = await ledger.Ask(new PutPoliciesCommand(space.Name, policies, Document(body.RootElement), inPlaceOf));
            space.ClaimPaths = policies.ClaimPaths;
        }
        finally
        {
            loading.Release();
        }
        audit.Note(space.Name, key.Actor, "policies.loaded", $"version {version.Position}",
            json => json.WriteNumber("policies", policies.All.Count));
        context.Response.Headers.ETag = string.Create(CultureInfo.InvariantCulture, $"\"{version.Position}\"");
        await Json.Write(context, 200, json => Loaded(json, version, policies));
    }

    static void Loaded(Utf8JsonWriter json, PolicyVersion? version, PolicySet policies)
    {
        json.WriteStartObject();
        if (version is null) json.WriteBoolean("dryRun", true);
        else
        {
            json.WriteNumber("version", version.Position);
            json.WriteString("loaded", version.Time.ToString());
        }
        json.WriteNumber("policies", policies.All.Count);
        json.WriteEndObject();
    }

    static byte[] Document(JsonElement root)
    {
        var buffer = new ArrayBufferWriter<byte>();
        using (var json = new Utf8JsonWriter(buffer, Json.Writing)) root.WriteTo(json);
        return buffer.WrittenSpan.ToArray();
    }

    /// <summary><c>POST /v1/grants</c></summary>
    public async Task MakeGrant(HttpContext context)
    {
        var (space, key) = context.KeyCaller();
        using var body = await Json.Read(context);
        var errors = new List<FieldError>();
        var root = Json.Object(body, GrantMembers, errors);
        string? Name(string member)
        {
            if (!root.TryGetProperty(member, out var given)) return null;
            if (JsonText.TryString(given, out var text) && Names.Check(text, false, out var name) is null) return name;
            errors.Add(new FieldError(member, $"must be a {member}'s id, 1 to 128 characters"));
            return "";
        }
        var (user, role) = (Name("user"), Name("role"));
        if (user is null == role is null) errors.Add(new FieldError("user", "or role: give exactly one of them"));
        if (DeviceMessage.TryTopic(root, out var topic) is { } wrong) errors.Add(new FieldError("topic", wrong));
        var rights = TopicRights.None;
        if (root.TryGetProperty("may", out var may)) rights = PolicyReader.Rights(may, "may", errors);
        else errors.Add(new FieldError("may", $"must be an array of {string.Join(", ", RightNames.All.Select(r => r.Name))}"));
        TimeSpan? holds = null;
        StoredTime? until = null;
        if (root.TryGetProperty("for", out var given))
        {
            if (JsonText.TryString(given, out var text) && Durations.TryParse(text, out var span) && span >= TimeSpan.FromSeconds(1)
                && span <= LongestGrant)
            {
                holds = span;
            }
            else errors.Add(new FieldError("for", "must be a number with s, m, h or d such as 8h, at most 3660d"));
        }
        if (root.TryGetProperty("until", out given))
        {
            if (JsonText.TryString(given, out var text)
                && DateTimeOffset.TryParse(text, CultureInfo.InvariantCulture, DateTimeStyles.AssumeUniversal, out var time)
                && time > clock.GetUtcNow())
            {
                until = StoredTime.From(time);
            }
            else errors.Add(new FieldError("until", "must be a time to come, such as 2030-01-01T06:00:00Z"));
            if (holds is not null) errors.Add(new FieldError("until", "can't stand with for; say once when it ends"));
        }
        if (errors.Count > 0) throw Problem.Invalid(errors, "Correct the named members; nothing was granted.").ToException();
        var made = await ledger.Ask(new GrantCommand(space.Name, new GrantDraft(user, role, topic, rights, holds, until)));
        audit.Note(space.Name, key.Actor, "grant.given", made.Grant.Person != 0 ? AuditTrail.Person(made.Grant.Person) : $"role:{role}",
            json => WriteTerms(json, made.Grant));
        await Json.Write(context, 201, json => Write(json, made));
    }

    /// <summary><c>GET /v1/grants</c>: those that hold, of one <c>?user=</c>, <c>?role=</c>, on one <c>?topic=</c>.</summary>
    public async Task ListGrants(HttpContext context)
    {
        var space = context.KeyCaller().Space;
        string? Query(string name) => context.Request.Query.TryGetValue(name, out var text) ? text.ToString() : null;
        var errors = new List<FieldError>();
        string user = "", role = "", topic = "";
        if (Query("user") is { } u && Names.Check(u, false, out user) is { } badUser) errors.Add(new FieldError("user", badUser));
        if (Query("role") is { } r && Names.Check(r, false, out role) is { } badRole) errors.Add(new FieldError("role", badRole));
        if (Query("topic") is { } t && TopicNames.Check(t, out topic) is { } badTopic) errors.Add(new FieldError("topic", badTopic));
        if (errors.Count > 0) throw Problem.Invalid(errors, "Correct the named query parameters.").ToException();
        var grants =
            await ledger.Ask(
            new ListGrantsCommand(space.Name, Query("user") is null ? null : user, Query("role") is null ? null : role,
            Query("topic") is null ? null : topic, Number(context, "after") ?? 0, MostListed));
        await Json.Write(context, 200, json =>
        {
            json.WriteStartObject();
            json.WriteStartArray("grants");
            foreach (var grant in grants) Write(json, grant);
            json.WriteEndArray();
            if (grants.Count == MostListed) json.WriteNumber("next", grants[^1].Grant.Number);
            json.WriteEndObject();
        });
    }

    /// <summary><c>DELETE /v1/grants/{grant}</c></summary>
    public async Task EndGrant(HttpContext context)
    {
        var (space, key) = context.KeyCaller();
        var text = (string)context.Request.RouteValues["grant"]!;
        var ended = long.TryParse(text, NumberStyles.None, CultureInfo.InvariantCulture, out long number)
            ? await ledger.Ask(new EndGrantCommand(space.Name, number))
            : null;
        if (ended is null)
        {
            throw new Problem(404, "unknown-grant", "No such grant", "No grant has this number, or it has expired.",
                "List them: GET /v1/grants.").ToException();
        }
        audit.Note(space.Name, key.Actor, "grant.ended",
            ended.Grant.Person != 0 ? AuditTrail.Person(ended.Grant.Person) : $"role:{ended.Grant.Role}",
            json => WriteTerms(json, ended.Grant));
        context.Response.StatusCode = 204;
    }

    static void WriteTerms(Utf8JsonWriter json, Grant grant)
    {
        json.WriteNumber("grant", grant.Number);
        json.WriteString("topic", grant.Topic);
        json.WriteStartArray("may");
        foreach (var name in RightNames.Of(grant.Rights)) json.WriteStringValue(name);
        json.WriteEndArray();
        if (grant.Until is { } until) json.WriteString("until", until.ToString());
        if (grant.Policy.Length > 0) json.WriteString("policy", grant.Policy);
        if (grant.Profile.Length > 0)
        {
            json.WritePropertyName("profile");
            json.WriteRawValue(grant.Profile);
        }
    }

    static void Write(Utf8JsonWriter json, GrantInfo info)
    {
        json.WriteStartObject();
        if (info.User is not null) json.WriteString("user", info.User);
        else json.WriteString("role", info.Grant.Role);
        WriteTerms(json, info.Grant);
        json.WriteEndObject();
    }

    /// <summary><c>GET /v1/explain?user=teo&amp;on=topic:berth/3</c>: whether a user is on an address's channel, each
    /// step that leads to it, and what would change it.</summary>
    public async Task Explain(HttpContext context)
    {
        var space = context.KeyCaller().Space;
        var (user, address) = ExplainQuery(context);
        await WriteExplanation(context, ledger, space, user, address);
    }

    internal static (string User, Address On) ExplainQuery(HttpContext context)
    {
        var errors = new List<FieldError>();
        if (Names.Check(context.Request.Query["user"].ToString(), false, out var user) is { } wrong)
        {
            errors.Add(new FieldError("user", wrong));
        }
        if (Address.TryParse(context.Request.Query["on"].ToString(), out var address) is { } bad) errors.Add(new FieldError("on", bad));
        return errors.Count == 0 ? (user, address)
            : throw Problem.Invalid(errors, "Correct the named query parameters: ?user=teo&on=topic:berth/3").ToException();
    }

    internal static async Task WriteExplanation(HttpContext context, LedgerPump ledger, SpaceRuntime space, string user, Address address)
    {
        var explanation = await ledger.Ask(new ExplainCommand(space.Name, user, address));
        await Json.Write(context, 200, json =>
        {
            json.WriteStartObject();
            json.WriteString("user", user);
            json.WriteString("on", address.ToString());
            json.WriteBoolean("onChannel", explanation.OnChannel);
            Steps(json, explanation.Steps);
            if (explanation.Rights.Count > 0)
            {
                json.WriteStartArray("rights");
                foreach (var right in explanation.Rights)
                {
                    json.WriteStartObject();
                    json.WriteString("right", RightNames.Of(right.Right).First());
                    json.WriteString("decision", right.Decision.Allowed ? "allow" : right.Decision.Ask is { } ask ? "ask" : "deny");
                    json.WriteString("by", right.Decision.By.Length > 0 ? right.Decision.By : right.Decision.Ask is { } asked
                        ? $"{PolicySet.Called(asked)} asks the decider '{asked.Ask}'"
                        : "no policy or grant allows it");
                    Steps(json, right.Steps);
                    json.WriteEndObject();
                }
                json.WriteEndArray();
            }
            json.WriteEndObject();
        });
    }

    static void Steps(Utf8JsonWriter json, IReadOnlyList<DecisionStep> steps)
    {
        json.WriteStartArray("steps");
        foreach (var step in steps)
        {
            json.WriteStartObject();
            json.WriteString("what", step.What);
            json.WriteString("outcome", step.Outcome);
            json.WriteString("why", step.Why);
            if (step.Fix.Length > 0) json.WriteString("fix", step.Fix);
            json.WriteEndObject();
        }
        json.WriteEndArray();
    }

    static long? Number(HttpContext context, string name)
    {
        if (!context.Request.Query.TryGetValue(name, out var text)) return null;
        return long.TryParse(text, NumberStyles.None, CultureInfo.InvariantCulture, out long number)
            && number < 1L << 43
            ? number
            : throw Problem.Invalid([new FieldError(name, "must be a whole number, as in an earlier answer")],
            "Correct the named query parameter.").ToException();
    }
}
