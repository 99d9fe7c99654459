using Rovett.Core.Addresses;
using Rovett.Core.Ledgers.Commands.Marking;
using Rovett.Core.Ledgers.Commands.Sessions;
using Rovett.Core.Visibility;
using Rovett.Core.Wire;
using Rovett.Service.Credentials;
using Rovett.Service.Endpoints.Backend;
using Rovett.Service.Http;
using Rovett.Service.Ledgers;

namespace Rovett.Service.Endpoints.User;

/// <summary>One person's inbox, for somebody who helps that person.</summary>
public sealed class PersonInboxApi(LedgerPump ledger, InboxReader inbox, UsersApi users)
{
    const int UsualPage = 50;

    /// <summary>Shows a user's inbox.</summary>
    /// <remarks>As the user sees it, with the unread counts by address, the mutes and the quiet hours. Reading it marks nothing.
    /// <c>Link</c> leads to the next page.</remarks>
    public async Task<PersonInboxAnswer> ShowInbox(HttpContext context, Given<PersonInboxQuery> query)
    {
        var space = context.KeyCaller().Space;
        if (Names.Check(query.Value.User ?? "", false, out var user) is { } wrong) query.Wrong("user", wrong);
        long before = long.MaxValue;
        if (query.Value.Page is { } page)
        {
            if (space.Pages.Open(page, out var position) == CursorState.Valid) before = position.Value;
            else query.Wrong("page", "is not from this space's 'next' link; start again without it");
        }
        var (state, limit) = (query.Sound().State, query.Value.Limit ?? UsualPage);
        var plan = await ledger.Ask(new PlanOfCommand(space.Name, user)) ?? throw users.Unknown(space, user).ToException();
        var choices = await ledger.Ask(new ChoicesCommand(space.Name, user));
        var found = inbox.Page(plan, before, limit, InboxApi.StateOf(state));
        if (found.More)
        {
            var next = $"{space.PathPrefix}/v1/inboxes?user={Uri.EscapeDataString(user)}&limit={limit}" +
                $"&page={space.Pages.Seal(found.Items[^1].Entry.Position)}" + (state is null or "all" ? "" : $"&state={state}");
            context.Response.Headers.Link = $"<{next}>; rel=\"next\"";
        }
        return new PersonInboxAnswer
        {
            User = user,
            Items = [.. found.Items.Select(i => InboxApi.Answer(space, i))],
            Totals = TotalsByAnswer.Of(plan.Totals),
            Mutes = ChoicesApi.Answer(choices.Mutes).Mutes,
            Quiet = choices.Quiet is { } quiet ? QuietAnswer.Of(quiet) : null,
        };
    }
}
