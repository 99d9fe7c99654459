using System.Text.Json;
using Rovett.Core.Ledgers;
using Rovett.Core.Ledgers.Commands.Marking;
using Rovett.Core.Ledgers.Commands.Sessions;
using Rovett.Core.Marks;
using Rovett.Core.Visibility;
using Rovett.Core.Wire;
using Rovett.Service.Credentials;
using Rovett.Service.Http;
using Rovett.Service.Ledgers;
using Rovett.Service.Spaces;

namespace Rovett.Service.Endpoints.User;

/// <summary>A user's inbox: what it holds, how many are unread, and marking.</summary>
public sealed class InboxApi(LedgerPump ledger, MarkSteps marks, InboxReader inbox)
{
    const int UsualPage = 50, MaxIds = 100;

    /// <summary>Lists the inbox.</summary>
    /// <remarks>Newest first. <c>Link</c> leads to the next page.</remarks>
    public async Task<InboxAnswer> ListInbox(HttpContext context, Given<InboxQuery> query)
    {
        var (space, credential) = context.UserCaller();
        if (query.Has("ids")) return await Some(space, credential.Identity, query);
        long before = long.MaxValue;
        if (query.Value.Page is { } page)
        {
            if (space.Pages.Open(page, out var position) == CursorState.Valid) before = position.Value;
            else query.Wrong("page", "is not from this space's 'next' link; start again without it");
        }
        var (state, limit) = (query.Sound().State, query.Value.Limit ?? UsualPage);
        var plan = await ledger.Ask(new IdentifyAndPlanCommand(space.Name, credential.Identity));
        var found = inbox.Page(plan, before, limit, StateOf(state));
        if (found.More)
        {
            var next = $"{space.PathPrefix}/v1/inbox?page={space.Pages.Seal(found.Items[^1].Entry.Position)}&limit={limit}" +
                (state is null or "all" ? "" : $"&state={state}");
            context.Response.Headers.Link = $"<{next}>; rel=\"next\"";
        }
        return new InboxAnswer
        {
            Items = [.. found.Items.Select(i => Answer(space, i))],
            Totals = TotalsByAnswer.Of(plan.Totals),
            Cursor = space.Cursors.Seal(plan.Head),
        };
    }

    internal static InboxState StateOf(string? name) =>
        name switch { "unread" => InboxState.Unread, "read" => InboxState.Read, _ => InboxState.All };

    /// <summary>Those that devices were sent in part.</summary>
    async Task<InboxAnswer> Some(SpaceRuntime space, Identity identity, Given<InboxQuery> query)
    {
        foreach (var other in new[] { "state", "limit", "page" })
        {
            if (query.Has(other)) query.Wrong(other, "can't stand with 'ids'");
        }
        var texts = query.Value.Ids!.Split(',');
        var ids = new List<NotificationId>();
        if (texts.Length > MaxIds) query.Wrong("ids", $"names {texts.Length}; the limit is {MaxIds}");
        else
        {
            foreach (var text in texts)
            {
                if (NotificationId.TryParse(text, out var id)) ids.Add(id);
                else query.Wrong("ids", $"has '{(text.Length <= 32 ? text : text[..32] + "…")}', which is not an id");
            }
        }
        query.Sound();
        var plan = await ledger.Ask(new IdentifyAndPlanCommand(space.Name, identity, withSubscribed: true));
        return new InboxAnswer
        {
            Items = [.. inbox.Items(plan, ids).Select(i => Answer(space, i))],
            Totals = TotalsByAnswer.Of(plan.Totals),
            Cursor = space.Cursors.Seal(plan.Head),
        };
    }

    /// <summary>Shows a notification of the inbox.</summary>
    /// <remarks>404 is the same whether it is another user's or nobody's.</remarks>
    public async Task<InboxItemAnswer> ShowInboxItem(HttpContext context)
    {
        var (space, credential) = context.UserCaller();
        bool isId = NotificationId.TryParse((string?)context.Request.RouteValues["id"], out var id);
        var plan = await ledger.Ask(new IdentifyAndPlanCommand(space.Name, credential.Identity));
        var item = inbox.Item(plan, id);
        return isId && item is not null ? Answer(space, item) : throw MarkCommand.UnknownId(id).ToException();
    }

    /// <summary>Shows how many notifications are unread.</summary>
    public async Task<TotalsAnswer> ShowTotals(HttpContext context, Given<TotalsQuery> query)
    {
        var (space, credential) = context.UserCaller();
        query.Sound();
        var plan = await ledger.Ask(new IdentifyAndPlanCommand(space.Name, credential.Identity));
        var totals = TotalsByAnswer.Of(plan.Totals);
        return new TotalsAnswer
        {
            Unread = totals.Unread,
            AsOf = totals.AsOf,
            Rev = totals.Rev,
            By = totals.By,
            ByType = query.Value.By is null ? null : new OrderedDictionary<string, long>(inbox.UnreadByType(plan)),
            Subject = query.Value.Subject is not { } subject ? null
                : new SubjectTotal { Name = subject, Unread = inbox.UnreadAbout(plan, subject) },
        };
    }

    /// <summary>Marks notifications.</summary>
    /// <remarks>As read, as unread or as received: some by id, all up to a cursor, all about a subject, or all.</remarks>
    public async Task<TotalsAfter> Mark(HttpContext context, RawBody body)
    {
        var (space, credential) = context.UserCaller();
        string? verb = null;
        if (body.Root.ValueKind == JsonValueKind.Object)
        {
            foreach (var member in body.Root.EnumerateObject())
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
        var selector = DeviceMessage.ParseSelector(body.Root.GetProperty(verb), space.Cursors, verb + ".", allowSubjectAndAll: true,
            out var problem);
        if (selector is null) throw problem!.ToException();
        await ledger.Ask(new IdentifyCommand(space.Name, credential.Identity));
        var what = verb switch { "read" => MarkVerb.Read, "unread" => MarkVerb.Unread, _ => MarkVerb.Received };
        return After(await marks.Mark(space.Name, credential.Identity, what, selector, "http", null));
    }

    static Problem BadMarks() => Problem.Invalid([new FieldError("(body)", "must contain exactly one of 'read', 'unread' and 'received', " +
        "with an object that says which: {\"read\":{\"ids\":[…]}}, {\"read\":{\"upTo\":\"…\"}}, {\"read\":{\"subject\":\"…\"}} or " +
        "{\"read\":{\"all\":true}}")]);

    /// <summary>Takes a notification over.</summary>
    /// <remarks>The other members of the role see that it is taken.</remarks>
    public Task<TotalsAfter> Take(HttpContext context) => TakeOrRelease(context, true);

    /// <summary>Releases a notification.</summary>
    /// <remarks>It is open to every member of the role again.</remarks>
    public Task<TotalsAfter> Release(HttpContext context) => TakeOrRelease(context, false);

    async Task<TotalsAfter> TakeOrRelease(HttpContext context, bool take)
    {
        var (space, credential) = context.UserCaller();
        bool isId = NotificationId.TryParse((string?)context.Request.RouteValues["id"], out var id);
        await ledger.Ask(new IdentifyCommand(space.Name, credential.Identity));
        if (!isId) throw MarkCommand.UnknownId(id).ToException();
        return After(await ledger.Ask(new TakeCommand(space.Name, credential.Identity.User.Value, id, take, credential.Identity)));
    }

    static TotalsAfter After(TotalsBy totals) => new() { Totals = TotalsByAnswer.Of(totals) };

    internal static InboxItemAnswer Answer(SpaceRuntime space, InboxItem item)
    {
        using var body = new StoredBody(item.Entry.Body);
        return new InboxItemAnswer
        {
            Cursor = space.Cursors.Seal(item.Entry.Position),
            Id = item.Entry.Id.ToString(),
            To = item.Address,
            Type = body.Text("type")!,
            Subject = body.Text("subject"),
            Title = body.Text("title")!,
            Body = body.Text("body"),
            Link = body.Text("link"),
            Urgency = body.Text("urgency"),
            Takeable = body.Flag("takeable") ? true : null,
            Always = body.Flag("always") ? true : null,
            Data = body.Any("data"),
            Expires = body.Time("expires"),
            Due = body.Time("due"),
            Time = item.Entry.Time,
            State = new ItemState
            {
                Received = item.Received,
                Read = item.Read,
                Muted = item.Muted ? true : null,
                Taken = item.Taken ? true : null,
            },
        };
    }
}
