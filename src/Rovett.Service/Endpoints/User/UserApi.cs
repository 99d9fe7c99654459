using System.Globalization;
using System.Text.Json;
using Rovett.Core.Addresses;
using Rovett.Core.Ledgers.Commands.Directory;
using Rovett.Core.Ledgers.Commands.Marking;
using Rovett.Core.Ledgers.Commands.Sessions;
using Rovett.Core.Ledgers.Commands.Topics;
using Rovett.Core.Marks;
using Rovett.Core.Store;
using Rovett.Core.Visibility;
using Rovett.Core.Wire;
using Rovett.Service.Credentials;
using Rovett.Service.Endpoints.Backend;
using Rovett.Service.Http;
using Rovett.Service.Ledgers;
using Rovett.Service.Spaces;
using Rovett.Service.Topics;

namespace Rovett.Service.Endpoints.User;

/// <summary>What users' devices call, with a token.</summary>
public sealed class UserApi(Tickets tickets, TopicGate topics, LedgerPump ledger, MarkSteps marks,
    InboxReader inbox)
{
    const int DefaultPage = 50, MaxPage = 200;

    /// <summary><c>GET /v1/inbox</c></summary>
    public async Task Inbox(HttpContext context)
    {
        var (space, credential) = context.UserCaller();
        var query = context.Request.Query;
        var errors = new List<FieldError>();
        var state = query["state"].ToString() switch
        {
            "" or "all" => InboxState.All,
            "unread" => InboxState.Unread,
            "read" => InboxState.Read,
            _ => (InboxState?)null
        };
        if (state is null) errors.Add(new FieldError("state", "must be all, unread or read"));
        int limit = DefaultPage;
        if (query.TryGetValue("limit", out var text)
            && (!int.TryParse(text, NumberStyles.None, CultureInfo.InvariantCulture, out limit) || limit is < 1 or > MaxPage))
        {
            errors.Add(new FieldError("limit", $"must be 1 to {MaxPage}"));
        }
        long before = long.MaxValue;
        if (query.TryGetValue("page", out var page))
        {
            if (space.Pages.Open(page.ToString(), out var position) == CursorState.Valid) before = position.Value;
            else errors.Add(new FieldError("page", "is not from this space's 'next' link; start again without it"));
        }
        if (errors.Count > 0) throw Problem.Invalid(errors, "Correct the named query parameters.").ToException();

        var plan = await ledger.Ask(new IdentifyAndPlanCommand(space.Name, credential.Identity));
        var found = inbox.Page(plan, before, limit, state!.Value);
        if (found.More)
        {
            var next = $"{space.PathPrefix}/v1/inbox?page={space.Pages.Seal(found.Items[^1].Entry.Position)}&limit={limit}" +
                (state == InboxState.All ? "" : $"&state={query["state"]}");
            context.Response.Headers.Link = $"<{next}>; rel=\"next\"";
        }
        await Json.Write(context, 200, json =>
        {
            json.WriteStartObject();
            json.WriteStartArray("items");
            foreach (var item in found.Items) WriteItem(json, space, item);
            json.WriteEndArray();
            WriteTotals(json, plan.Totals);
            json.WriteString("cursor", space.Cursors.Seal(plan.Head));
            json.WriteEndObject();
        });
    }

    /// <summary><c>GET /v1/inbox/{id}</c></summary>
    public async Task InboxItem(HttpContext context)
    {
        var (space, credential) = context.UserCaller();
        var text = (string?)context.Request.RouteValues["id"];
        bool isId = NotificationId.TryParse(text, out var id);
        var plan = await ledger.Ask(new IdentifyAndPlanCommand(space.Name, credential.Identity));
        var item = inbox.Item(plan, id);
        if (!isId || item is null) throw MarkCommand.UnknownId(id).ToException();
        await Json.Write(context, 200, json => WriteItem(json, space, item));
    }

    /// <summary><c>GET /v1/inbox/totals</c></summary>
    public async Task InboxTotals(HttpContext context)
    {
        var (space, credential) = context.UserCaller();
        var plan = await ledger.Ask(new IdentifyAndPlanCommand(space.Name, credential.Identity));
        var query = context.Request.Query;
        bool byType = query.TryGetValue("by", out var by)
            && (by == "type" ? true : throw Problem.Invalid([new FieldError("by", "must be type, or left out")]).ToException());
        var types = byType ? inbox.UnreadByType(plan) : null;
        long? about = query.TryGetValue("subject", out var subject) ? inbox.UnreadAbout(plan, subject.ToString()) : null;
        await Json.Write(context, 200, json =>
        {
            json.WriteStartObject();
            WriteTotalsMembers(json, plan.Totals);
            if (types is not null)
            {
                json.WriteStartObject("byType");
                foreach (var (type, unread) in types) json.WriteNumber(type, unread);
                json.WriteEndObject();
            }
            if (about is { } count)
            {
                json.WriteStartObject("subject");
                json.WriteString("name", subject.ToString());
                json.WriteNumber("unread", count);
                json.WriteEndObject();
            }
            json.WriteEndObject();
        });
    }

    /// <summary><c>POST /v1/inbox/marks</c></summary>
    public async Task Marks(HttpContext context)
    {
        var (space, credential) = context.UserCaller();
        using var body = await Json.Read(context);
        var root = body.RootElement;
        string? verb = null;
        if (root.ValueKind == JsonValueKind.Object)
        {
            foreach (var member in root.EnumerateObject())
            {
                if (member.Name is not ("read" or "unread" or "received") || verb is not null
                    || member.Value.ValueKind != JsonValueKind.Object)
                {
                    throw BadMarks().ToException();
                }
                verb = member.Name;
            }
        }
        if (verb is null) throw BadMarks().ToException();
        var selector = DeviceMessage.ParseSelector(root.GetProperty(verb), space.Cursors, verb + ".", allowSubjectAndAll: true,
            out var problem);
        if (selector is null) throw problem!.ToException();
        await ledger.Ask(new IdentifyCommand(space.Name, credential.Identity));
        var what = verb switch { "read" => MarkVerb.Read, "unread" => MarkVerb.Unread, _ => MarkVerb.Received };
        var totals = await marks.Mark(space.Name, credential.Identity, what, selector, "http", null);
        await Json.Write(context, 200, json =>
        {
            json.WriteStartObject();
            WriteTotals(json, totals);
            json.WriteEndObject();
        });
    }

    static Problem BadMarks() => Problem.Invalid([new FieldError("(body)", "must contain exactly one of 'read', 'unread' and 'received', " +
        "with an object that says which: {\"read\":{\"ids\":[…]}}, {\"read\":{\"upTo\":\"…\"}}, {\"read\":{\"subject\":\"…\"}} or " +
        "{\"read\":{\"all\":true}}")]);

    /// <summary><c>POST /v1/inbox/{id}/take</c></summary>
    public Task Take(HttpContext context) => TakeOrRelease(context, true);

    /// <summary><c>POST /v1/inbox/{id}/release</c></summary>
    public Task Release(HttpContext context) => TakeOrRelease(context, false);

    async Task TakeOrRelease(HttpContext context, bool take)
    {
        var (space, credential) = context.UserCaller();
        bool isId = NotificationId.TryParse((string?)context.Request.RouteValues["id"], out var id);
        await ledger.Ask(new IdentifyCommand(space.Name, credential.Identity));
        if (!isId) throw MarkCommand.UnknownId(id).ToException();
        var totals = await ledger.Ask(new TakeCommand(space.Name, credential.Identity.User.Value, id, take, credential.Identity));
        await Json.Write(context, 200, json =>
        {
            json.WriteStartObject();
            WriteTotals(json, totals);
            json.WriteEndObject();
        });
    }

    /// <summary><c>GET /v1/mutes</c></summary>
    public async Task Mutes(HttpContext context)
    {
        var (space, credential) = context.UserCaller();
        await ledger.Ask(new StandingCommand(space.Name, credential.Identity));
        await WriteMutes(context, await ledger.Ask(new MutesCommand(space.Name, credential.Identity.User.Value)));
    }

    /// <summary><c>POST /v1/mutes</c>: from now on, of one type or about one subject.</summary>
    public async Task Mute(HttpContext context)
    {
        var (space, credential) = context.UserCaller();
        using var body = await Json.Read(context);
        var root = body.RootElement;
        string? type = null, subject = null;
        if (root.ValueKind == JsonValueKind.Object)
        {
            if (root.TryGetProperty("type", out var t)) JsonText.TryString(t, out type);
            if (root.TryGetProperty("subject", out var s)) JsonText.TryString(s, out subject);
        }
        await ChangeMute(context, space, credential, type, subject, true);
    }

    /// <summary><c>DELETE /v1/mutes?type=…</c> or <c>?subject=…</c></summary>
    public async Task Unmute(HttpContext context)
    {
        var (space, credential) = context.UserCaller();
        string? Query(string name) => context.Request.Query.TryGetValue(name, out var text) ? text.ToString() : null;
        await ChangeMute(context, space, credential, Query("type"), Query("subject"), false);
    }

    async Task ChangeMute(HttpContext context, SpaceRuntime space, Credential credential, string? type, string? subject, bool mute)
    {
        if (type is null == subject is null || (type ?? subject)!.Length is 0 or > 256)
            throw Problem.Invalid([new FieldError("type", "or subject: give exactly one of them, 1 to 256 characters")]).ToException();
        await ledger.Ask(new IdentifyCommand(space.Name, credential.Identity));
        await WriteMutes(context,
            await ledger.Ask(
            new MuteCommand(space.Name, credential.Identity.User.Value, type is not null, (type ?? subject)!, mute, credential.Identity)));
    }

    static Task WriteMutes(HttpContext context, IReadOnlyList<MuteRow> mutes) => Json.Write(context, 200, json =>
    {
        json.WriteStartObject();
        json.WriteStartArray("mutes");
        foreach (var mute in mutes)
        {
            json.WriteStartObject();
            json.WriteString(mute.IsType ? "type" : "subject", mute.Text);
            json.WriteString("since", mute.Since.ToString());
            json.WriteEndObject();
        }
        json.WriteEndArray();
        json.WriteEndObject();
    });

    /// <summary><c>GET /v1/follows</c></summary>
    public async Task Follows(HttpContext context)
    {
        var (space, credential) = context.UserCaller();
        await ledger.Ask(new IdentifyCommand(space.Name, credential.Identity));
        var follows = await ledger.Ask(new FollowsCommand(space.Name, credential.Identity.User.Value));
        await WriteFollows(context, follows, null);
    }

    /// <summary><c>POST /v1/follows</c>: durably, absence included.</summary>
    public async Task Follow(HttpContext context)
    {
        var (space, credential) = context.UserCaller();
        using var body = await Json.Read(context);
        if (DeviceMessage.TryTopic(body.RootElement, out var topic) is { } wrong)
        {
            throw Problem.Invalid([new FieldError("topic", wrong)]).ToException();
        }
        await ledger.Ask(new IdentifyCommand(space.Name, credential.Identity));
        var (follows, totals) = await topics.Follow(space, credential.Identity, topic);
        await WriteFollows(context, follows, totals);
    }

    /// <summary><c>DELETE /v1/follows?topic=…</c></summary>
    public async Task Unfollow(HttpContext context)
    {
        var (space, credential) = context.UserCaller();
        if (TopicNames.Check(context.Request.Query["topic"].ToString(), out var topic) is { } wrong)
        {
            throw Problem.Invalid([new FieldError("topic", wrong)], "Correct the named query parameter.").ToException();
        }
        await ledger.Ask(new IdentifyCommand(space.Name, credential.Identity));
        var (follows, totals) = await topics.Unfollow(space, credential.Identity, topic);
        await WriteFollows(context, follows, totals);
    }

    static Task WriteFollows(HttpContext context, IReadOnlyList<FollowedTopic> follows, Totals? totals) => Json.Write(context, 200, json =>
    {
        json.WriteStartObject();
        json.WriteStartArray("follows");
        foreach (var (topic, active) in follows)
        {
            json.WriteStartObject();
            json.WriteString("topic", topic);
            json.WriteBoolean("active", active);
            json.WriteEndObject();
        }
        json.WriteEndArray();
        if (totals is { } now)
        {
            json.WriteStartObject("totals");
            json.WriteNumber("unread", now.Unread);
            json.WriteString("asOf", now.AsOf.ToString());
            json.WriteNumber("rev", now.Rev);
            json.WriteEndObject();
        }
        json.WriteEndObject();
    });

    /// <summary><c>POST /v1/tickets</c></summary>
    public async Task Ticket(HttpContext context)
    {
        var (space, credential) = context.UserCaller();
        await ledger.Ask(new StandingCommand(space.Name, credential.Identity));
        var ticket = tickets.Make(space.Name, credential);
        context.Response.Headers.CacheControl = "no-store";
        await Json.Write(context, 201, json =>
        {
            json.WriteStartObject();
            json.WriteString("ticket", ticket);
            json.WriteNumber("opensWithinSeconds", (int)Tickets.OpensWithin.TotalSeconds);
            json.WriteString("expires", StoredTime.From(credential.Expires).ToString());
            json.WriteEndObject();
        });
    }

    static void WriteItem(Utf8JsonWriter json, SpaceRuntime space, InboxItem item)
    {
        json.WriteStartObject();
        json.WriteString("cursor", space.Cursors.Seal(item.Entry.Position));
        json.WriteString("id", item.Entry.Id.ToString());
        json.WriteString("to", item.Address);
        BackendApi.WriteBody(json, item.Entry.Body);
        json.WriteString("time", item.Entry.Time.ToString());
        json.WriteStartObject("state");
        json.WriteString("received", item.Received?.ToString());
        json.WriteString("read", item.Read?.ToString());
        if (item.Muted) json.WriteBoolean("muted", true);
        if (item.Taken) json.WriteBoolean("taken", true);
        json.WriteEndObject();
        json.WriteEndObject();
    }

    static void WriteTotals(Utf8JsonWriter json, TotalsBy totals)
    {
        json.WriteStartObject("totals");
        WriteTotalsMembers(json, totals);
        json.WriteEndObject();
    }

    static void WriteTotalsMembers(Utf8JsonWriter json, TotalsBy totals)
    {
        json.WriteNumber("unread", totals.Totals.Unread);
        json.WriteString("asOf", totals.Totals.AsOf.ToString());
        json.WriteNumber("rev", totals.Totals.Rev);
        json.WriteStartObject("by");
        foreach (var (address, unread) in totals.By) json.WriteNumber(address, unread);
        json.WriteEndObject();
    }
}
