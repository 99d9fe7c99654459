using Rovett.Core.Ledgers.Commands.Directory;
using Rovett.Core.Ledgers.Commands.Marking;
using Rovett.Core.Ledgers.Commands.Sessions;
using Rovett.Core.Ledgers.Commands.Topics;
using Rovett.Core.Store;
using Rovett.Core.Visibility;
using Rovett.Core.Wire;
using Rovett.Service.Credentials;
using Rovett.Service.Http;
using Rovett.Service.Ledgers;
using Rovett.Service.Topics;

namespace Rovett.Service.Endpoints.User;

/// <summary>Mutes, followed topics, and tickets to connect with.</summary>
public sealed class ChoicesApi(Tickets tickets, TopicGate topics, LedgerPump ledger)
{
    const int MaxText = 256;

    /// <summary>Lists what the user has muted.</summary>
    public async Task<MuteList> ListMutes(HttpContext context)
    {
        var (space, credential) = context.UserCaller();
        await ledger.Ask(new StandingCommand(space.Name, credential.Identity));
        return Answer(await ledger.Ask(new MutesCommand(space.Name, credential.Identity.User.Value)));
    }

    /// <summary>Mutes a type or a subject.</summary>
    /// <remarks>What comes from now on is in the inbox, marked, but is not counted or sent live.</remarks>
    public Task<MuteList> Mute(HttpContext context, Given<MuteRequest> body) => Change(context, body, true);

    /// <summary>Ends a mute.</summary>
    public Task<MuteList> Unmute(HttpContext context, Given<MuteRequest> query) => Change(context, query, false);

    async Task<MuteList> Change(HttpContext context, Given<MuteRequest> given, bool mute)
    {
        var (space, credential) = context.UserCaller();
        var (type, subject) = (given.Value.Type, given.Value.Subject);
        if (given.Errors.Count == 0 && (type is null == subject is null || (type ?? subject)!.Length is 0 or > MaxText))
        {
            given.Wrong("type", "or subject: give exactly one of them, 1 to 256 characters");
        }
        given.Sound();
        await ledger.Ask(new IdentifyCommand(space.Name, credential.Identity));
        return Answer(await ledger.Ask(
            new MuteCommand(space.Name, credential.Identity.User.Value, type is not null, (type ?? subject)!, mute, credential.Identity)));
    }

    static MuteList Answer(IReadOnlyList<MuteRow> mutes) => new()
    {
        Mutes = [.. mutes.Select(m =>
            new MuteAnswer { Type = m.IsType ? m.Text : null, Subject = m.IsType ? null : m.Text, Since = m.Since })],
    };

    /// <summary>Lists the topics the user follows.</summary>
    public async Task<FollowList> ListFollows(HttpContext context)
    {
        var (space, credential) = context.UserCaller();
        await ledger.Ask(new IdentifyCommand(space.Name, credential.Identity));
        return Answer(await ledger.Ask(new FollowsCommand(space.Name, credential.Identity.User.Value)), null);
    }

    /// <summary>Follows a topic.</summary>
    /// <remarks>What is sent to it from now on is in the inbox and counted, also while the user is offline.</remarks>
    public async Task<FollowList> Follow(HttpContext context, Given<FollowRequest> body)
    {
        var (space, credential) = context.UserCaller();
        var topic = TopicOf(body);
        await ledger.Ask(new IdentifyCommand(space.Name, credential.Identity));
        var (follows, totals) = await topics.Follow(space, credential.Identity, topic);
        return Answer(follows, totals);
    }

    /// <summary>Unfollows a topic.</summary>
    public async Task<FollowList> Unfollow(HttpContext context, Given<FollowRequest> query)
    {
        var (space, credential) = context.UserCaller();
        var topic = TopicOf(query);
        await ledger.Ask(new IdentifyCommand(space.Name, credential.Identity));
        var (follows, totals) = await topics.Unfollow(space, credential.Identity, topic);
        return Answer(follows, totals);
    }

    static string TopicOf(Given<FollowRequest> given)
    {
        var topic = "";
        if (given.Errors.Count == 0 && DeviceMessage.TryTopic(given.Value.Topic, out topic) is { } wrong) given.Wrong("topic", wrong);
        given.Sound();
        return topic;
    }

    static FollowList Answer(IReadOnlyList<FollowedTopic> follows, Totals? totals) => new()
    {
        Follows = [.. follows.Select(f => new FollowAnswer { Topic = f.Topic, Active = f.Active })],
        Totals = totals is { } now ? FollowTotals.Of(now) : null,
    };

    /// <summary>Creates a connect ticket.</summary>
    /// <remarks>For browsers, which can't send a header with a WebSocket or an EventSource: good for one connection, soon.</remarks>
    public async Task<TicketAnswer> CreateTicket(HttpContext context)
    {
        var (space, credential) = context.UserCaller();
        await ledger.Ask(new StandingCommand(space.Name, credential.Identity));
        var ticket = tickets.Make(space.Name, credential);
        context.Response.Headers.CacheControl = "no-store";
        context.Response.StatusCode = StatusCodes.Status201Created;
        return new TicketAnswer
        {
            Ticket = ticket,
            OpensWithinSeconds = (int)Tickets.OpensWithin.TotalSeconds,
            Expires = StoredTime.From(credential.Expires),
        };
    }
}
