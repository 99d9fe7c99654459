using System.Globalization;
using System.Text.Json;
using Rovett.Core.Addresses;
using Rovett.Core.Ledgers.Commands.Topics;
using Rovett.Core.Policies;
using Rovett.Core.Wire;
using Rovett.Service.Audit;
using Rovett.Service.Credentials;
using Rovett.Service.Http;
using Rovett.Service.Ledgers;

namespace Rovett.Service.Endpoints.Backend;

/// <summary>Grants: a right of one user or role on one topic.</summary>
public sealed class GrantsApi(LedgerPump ledger, AuditTrail audit, TimeProvider clock)
{
    const int MostListed = 500;
    static readonly TimeSpan LongestGrant = TimeSpan.FromDays(3660);

    /// <summary>Creates a grant.</summary>
    public async Task<GrantAnswer> CreateGrant(HttpContext context, Given<GrantRequest> body)
    {
        var (space, key) = context.KeyCaller();
        var (given, user, role) = (body.Value, NameOf(body, "user", body.Value.User), NameOf(body, "role", body.Value.Role));
        if (body.Has("user") == body.Has("role")) body.Wrong("user", "or role: give exactly one of them");
        string topic = "";
        if (!body.Has("topic") || body.IsSound("topic"))
        {
            if (DeviceMessage.TryTopic(given.Topic, out topic) is { } wrong) body.Wrong("topic", wrong);
        }
        var rights = (given.May ?? []).Aggregate(TopicRights.None, (all, name) => all | RightNames.Parse(name));
        if (given.May is null or [] && (!body.Has("may") || body.IsSound("may")))
        {
            body.Wrong("may", $"must be an array of {string.Join(", ", RightNames.All.Select(r => r.Name))}");
        }
        var (lasts, until) = EndOf(body);
        body.Sound("Correct the named members; nothing was granted.");
        var made = await ledger.Ask(new GrantCommand(space.Name, new GrantDraft(user, role, topic, rights, lasts, until))
        { StepSize = role is null ? 0 : LedgerPump.StepSize });
        audit.Note(space.Name, key.Actor, "grant.given", made.Grant.Person != 0 ? AuditTrail.Person(made.Grant.Person) : $"role:{role}",
            json => WriteTerms(json, made.Grant));
        context.Response.StatusCode = StatusCodes.Status201Created;
        return Answer(made);
    }

    static string? NameOf(Given<GrantRequest> body, string member, string? given)
    {
        if (given is null) return null;
        if (Names.Check(given, false, out var name) is null) return name;
        body.Wrong(member, $"must be a {member}'s id, 1 to 128 characters");
        return "";
    }

    (TimeSpan? Lasts, StoredTime? Until) EndOf(Given<GrantRequest> body)
    {
        TimeSpan? lasts = null;
        StoredTime? until = null;
        if (body.Value.For is { } span)
        {
            if (Durations.TryParse(span, out var time) && time >= TimeSpan.FromSeconds(1) && time <= LongestGrant) lasts = time;
            else body.Wrong("for", "must be a number with s, m, h or d such as 8h, at most 3660d");
        }
        if (body.Value.Until is not { } text) return (lasts, until);
        if (DateTimeOffset.TryParse(text, CultureInfo.InvariantCulture, DateTimeStyles.AssumeUniversal, out var end)
            && end > clock.GetUtcNow())
        {
            until = StoredTime.From(end);
        }
        else body.Wrong("until", "must be a time to come, such as 2030-01-01T06:00:00Z");
        if (body.Has("for")) body.Wrong("until", "can't stand with for; say once when it ends");
        return (lasts, until);
    }

    /// <summary>Lists the grants.</summary>
    /// <remarks>Those that have not ended, at most 500; <c>next</c> leads to more.</remarks>
    public async Task<GrantList> ListGrants(HttpContext context, Given<GrantQuery> query)
    {
        string? user = null, role = null, topic = null;
        if (query.Value.User is { } u && Names.Check(u, false, out user) is { } badUser) query.Wrong("user", badUser);
        if (query.Value.Role is { } r && Names.Check(r, false, out role) is { } badRole) query.Wrong("role", badRole);
        if (query.Value.Topic is { } t && TopicNames.Check(t, out topic) is { } badTopic) query.Wrong("topic", badTopic);
        query.Sound();
        var grants = await ledger.Ask(
            new ListGrantsCommand(context.KeyCaller().Space.Name, user, role, topic, query.Value.After ?? 0, MostListed));
        return new GrantList
        {
            Grants = [.. grants.Select(Answer)],
            Next = grants.Count == MostListed ? grants[^1].Grant.Number : null,
        };
    }

    /// <summary>Shows a grant.</summary>
    public async Task<GrantAnswer> ShowGrant(HttpContext context)
    {
        long? number = NumberOf(context);
        // The grant after the one before it.
        var found = number is { } n
            ? await ledger.Ask(new ListGrantsCommand(context.KeyCaller().Space.Name, null, null, null, n - 1, 1))
            : [];
        return found.Count > 0 && found[0].Grant.Number == number ? Answer(found[0]) : throw Unknown().ToException();
    }

    /// <summary>Removes a grant.</summary>
    public async Task<NoAnswer> RemoveGrant(HttpContext context)
    {
        var (space, key) = context.KeyCaller();
        var ended = NumberOf(context) is { } number
            ? await ledger.Ask(new EndGrantCommand(space.Name, number) { StepSize = LedgerPump.StepSize }) : null;
        if (ended is null) throw Unknown().ToException();
        audit.Note(space.Name, key.Actor, "grant.ended",
            ended.Grant.Person != 0 ? AuditTrail.Person(ended.Grant.Person) : $"role:{ended.Grant.Role}",
            json => WriteTerms(json, ended.Grant));
        return await NoAnswer.To(context);
    }

    static long? NumberOf(HttpContext context) =>
        long.TryParse((string)context.Request.RouteValues["grant"]!, NumberStyles.None, CultureInfo.InvariantCulture, out long number)
            && number > 0 ? number : null;

    static Problem Unknown() => new(404, "unknown-grant", "No such grant", "No grant has this number, or it has expired.",
        "List them: GET /v1/grants.");

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

    static GrantAnswer Answer(GrantInfo info) => new()
    {
        User = info.User,
        Role = info.User is null ? info.Grant.Role : null,
        Grant = info.Grant.Number,
        Topic = info.Grant.Topic,
        May = [.. RightNames.Of(info.Grant.Rights)],
        Until = info.Grant.Until,
        Policy = info.Grant.Policy.Length > 0 ? info.Grant.Policy : null,
        Profile = info.Grant.Profile.Length > 0 ? JsonElement.Parse(info.Grant.Profile) : null,
    };
}
