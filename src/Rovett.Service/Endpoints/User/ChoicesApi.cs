using System.Globalization;
using System.Text.Json;
using Rovett.Core.Choices;
using Rovett.Core.Ledgers;
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
using Rovett.Service.Spaces;
using Rovett.Service.Topics;

namespace Rovett.Service.Endpoints.User;

/// <summary>Mutes, quiet hours, followed topics, and tickets to connect with.</summary>
public sealed class ChoicesApi(Tickets tickets, TopicGate topics, LedgerPump ledger, TimeProvider clock)
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
        if (mute && type is not null && space.Types.Catalogue.Find(type)?.IsAlways == true)
        {
            given.Wrong("type", $"people are always told of {type}; it can't be muted");
        }
        given.Sound();
        await ledger.Ask(new IdentifyCommand(space.Name, credential.Identity));
        return Answer(await ledger.Ask(
            new MuteCommand(space.Name, credential.Identity.User.Value, type is not null, (type ?? subject)!, mute, credential.Identity)));
    }

    internal static MuteList Answer(IReadOnlyList<MuteRow> mutes) => new()
    {
        Mutes = [.. mutes.Select(m =>
            new MuteAnswer { Type = m.IsType ? m.Text : null, Subject = m.IsType ? null : m.Text, Since = m.Since })],
    };

    /// <summary>Shows what the user chose: mutes and quiet hours.</summary>
    public async Task<ChoicesAnswer> ShowChoices(HttpContext context)
    {
        var (space, credential) = context.UserCaller();
        await ledger.Ask(new StandingCommand(space.Name, credential.Identity));
        return Answer(context, await ledger.Ask(new ChoicesCommand(space.Name, credential.Identity.User.Value)));
    }

    /// <summary>Replaces what the user chose.</summary>
    /// <remarks>All of it: what is left out is not chosen any more. A mute that there was already keeps its start. With
    /// <c>If-Match</c> only in place of that rev. All of the user's devices are told at once.</remarks>
    public async Task<ChoicesAnswer> PutChoices(HttpContext context, Given<ChoicesRequest> body)
    {
        var (space, credential) = context.UserCaller();
        var inPlaceOf = Json.VersionToReplace(context, body.Errors);
        var mutes = new List<(bool IsType, string Text)>();
        var given = body.IsSound("mutes") ? body.Value.Mutes! : [];
        for (int i = 0; i < given.Count; i++)
        {
            var (type, subject) = (given[i].Type, given[i].Subject);
            if (type is null == subject is null || (type ?? subject)!.Length is 0 or > MaxText)
            {
                body.Wrong($"mutes[{i}]", "must name exactly one of type and subject, 1 to 256 characters");
            }
            else mutes.Add((type is not null, (type ?? subject)!));
        }
        var quiet = body.Value.Quiet is { ValueKind: not JsonValueKind.Null } node ? QuietHours.Read(node, "quiet", body.Errors) : null;
        body.Sound("Correct the named members; nothing was changed.");
        await ledger.Ask(new IdentifyCommand(space.Name, credential.Identity));
        await RequireCanBeMuted(space, credential.Identity, body, mutes);
        return Answer(context, await ledger.Ask(new PutChoicesCommand(space.Name, credential.Identity.User.Value, mutes, quiet, inPlaceOf,
            credential.Identity)));
    }

    /// <summary>A type that people are always told of can't be muted from now on; a mute from before rests.</summary>
    async Task RequireCanBeMuted(SpaceRuntime space, Identity identity, Given<ChoicesRequest> body, List<(bool IsType, string Text)> mutes)
    {
        var always = mutes.Where(m => m.IsType && space.Types.Catalogue.Find(m.Text)?.IsAlways == true).ToList();
        if (always.Count == 0) return;
        var before = (await ledger.Ask(new ChoicesCommand(space.Name, identity.User.Value))).Mutes;
        foreach (var mute in always.Where(m => !before.Any(b => b.IsType && b.Text == m.Text)))
        {
            body.Wrong($"mutes[{mutes.IndexOf(mute)}].type", $"people are always told of {mute.Text}; it can't be muted");
        }
        body.Sound();
    }

    ChoicesAnswer Answer(HttpContext context, ChoicesState choices)
    {
        var languages = context.Request.GetTypedHeaders().AcceptLanguage.OrderByDescending(l => l.Quality ?? 1)
            .Select(l => l.Value.Value ?? "").ToList();
        var named = context.UserCaller().Space.Types.Catalogue.Types.Select(t => (Type: t, Name: t.NameIn(languages)));
        context.Response.Headers.ETag = string.Create(CultureInfo.InvariantCulture, $"\"{choices.Rev}\"");
        return new ChoicesAnswer
        {
            Rev = choices.Rev,
            Mutes = Answer(choices.Mutes).Mutes,
            Quiet = choices.Quiet is { } quiet ? QuietAnswer.Of(quiet) : null,
            Types = [.. named.Where(t => t.Name is not null)
                .Select(t => new ChosenType { Type = t.Type.Type, Name = t.Name!, Always = t.Type.IsAlways ? true : null })],
            QuietSpans = [.. (choices.Quiet?.Spans(clock.GetUtcNow()) ?? [])
                .Select(s => new QuietSpanAnswer { From = StoredTime.From(s.From), To = StoredTime.From(s.To) })],
        };
    }

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
