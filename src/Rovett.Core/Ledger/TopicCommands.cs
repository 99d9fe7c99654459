using Rovett.Core.AddressLogs;
using Rovett.Core.Delivery;
using Rovett.Core.Policies;

namespace Rovett.Core.Ledger;

/// <summary>A session takes a topic's channel for as long as it lasts. Answers what was decided; without the right nothing changes.</summary>
/// <param name="space">The space's name.</param>
/// <param name="user">The user.</param>
/// <param name="session">The session.</param>
/// <param name="topic">The topic, in its one form.</param>
/// <param name="after">The device has what came up to here; null: it starts now.</param>
/// <param name="most">The most topics a session may subscribe to.</param>
public sealed class SubscribeCommand(string space, UserState user, Session session, string topic, Position? after, int most) : LedgerCommand<(Decision Decision, ChannelList Channels)>
{
    /// <summary>The most notifications that a subscription is caught up with.</summary>
    public const int CatchUp = 100;

    internal override void Write(Ledger ledger)
    {
        var state = ledger.Space(space);
        if (SessionPlaces.Find(state, user, session) is not var (present, place))
        {
            Answer = (new Decision(true, ""), new ChannelList([], [])); // it is gone: nobody is there to hear
            return;
        }
        var decision = state.Topics.Decide(present, topic, TopicRights.Subscribe);
        if (decision.Allowed && !place.Topics.ContainsKey(topic))
        {
            if (place.Topics.Count >= most) throw new Problem(429, "too-many-topics", "The session has subscribed to too many topics", $"The limit is {most} for one session (topicsPerSession).", "Unsubscribe from one first, or follow topics that matter durably.") { RetryAfterSeconds = 1 }.Throw();
            Subscribe(ledger, state, present, place);
        }
        Answer = (decision, Roles.ChannelsOf(present, place));
    }

    void Subscribe(Ledger ledger, SpaceState state, UserState present, SessionPlace place)
    {
        long since = after is { } said && said.Value < state.Head ? state.Topics.HeldSince(present, topic, TopicRights.Subscribe, said.Value) : state.Head;
        bool cut = false;
        foreach (var log in after is null ? [] : state.AudiencesOf("topic:" + topic))
        {
            cut |= log.Lost.Position > since;
            if (log.Head - state.OrdinalAt(log, since) <= CatchUp) continue;
            cut = true;
            since = Math.Max(since, ledger.Store.NewestItems(log.Id, 0, CatchUp + 1)[^1].Position);
        }
        Roles.Watching(ledger, state, place, topics => topics[topic] = since);
        // From here on no page is taken that was read without the topic.
        present.PlanVersion++;
        foreach (var other in present.Sessions) other.Session.PlanChanged(present.PlanVersion, null);
        if (cut) ledger.Tell(place, Messages.Gap("catch-up", null, topic));
        long covered = session.IsLive ? state.Head : session.Through;
        foreach (var entry in Missed(ledger, state, place, since, covered)) ledger.Tell(place, Messages.CaughtUp(entry, "topic:" + topic));
        Roles.TellChannels(ledger, present, place);
    }

    /// <summary>What came on the topic after a position, that no page of the session will bring because the session is past it,
    /// and no topic brought that it had subscribed to before.</summary>
    List<EntryRow> Missed(Ledger ledger, SpaceState state, SessionPlace place, long since, long covered)
    {
        var missed = new SortedDictionary<long, EntryRow>();
        foreach (var watch in place.Watches)
        {
            var topics = watch.Seen.Log.Audience!.Includes.Where(a => a.Kind == Addresses.AddressKind.Topic).Select(a => a.Name).ToList();
            if (!topics.Contains(topic) || watch.Seen.Log.HeadPosition <= since) continue;
            long brought = topics.Where(t => t != topic && place.Topics.ContainsKey(t)).Select(t => place.Topics[t]).Append(covered).Min();
            foreach (var (ordinal, position) in ledger.Store.NewestItems(watch.Seen.Log.Id, watch.Seen.Segments[0].Lo, CatchUp))
            {
                if (position > brought || position <= since || watch.Seen.SegmentOf(ordinal) is null || watch.Seen.Muted.Contains(ordinal)) continue;
                if (ledger.Store.FindEntry(state.Id, position) is { } entry) missed[position] = entry;
            }
        }
        return [.. missed.Values.TakeLast(CatchUp)];
    }
}

/// <summary>A session gives a topic's channel up. Answers false when it had not taken it.</summary>
public sealed class UnsubscribeCommand(string space, UserState user, ISessionPort session, string topic) : LedgerCommand<bool>
{
    internal override void Write(Ledger ledger)
    {
        var state = ledger.Space(space);
        if (SessionPlaces.Find(state, user, session) is not var (present, place) || !place.Topics.ContainsKey(topic)) return;
        Roles.Watching(ledger, state, place, topics => topics.Remove(topic));
        present.PlanVersion++;
        foreach (var other in present.Sessions) Roles.Replan(present, other);
        Roles.TellChannels(ledger, present, place);
        Answer = true;
    }
}

/// <summary>A session says something to whoever is connected and on a topic's channel: kept nowhere. Answers what was decided;
/// without the right nobody hears it.</summary>
/// <param name="space">The space's name.</param>
/// <param name="user">The user who says it.</param>
/// <param name="session">The session.</param>
/// <param name="topic">The topic, in its one form.</param>
/// <param name="data">What is said: JSON.</param>
/// <param name="toSelf">Whether the session hears it too, if it is on the channel.</param>
public sealed class SayCommand(string space, UserState user, ISessionPort session, string topic, byte[] data, bool toSelf) : LedgerCommand<Decision>
{
    internal override void Write(Ledger ledger)
    {
        var state = ledger.Space(space);
        if (SessionPlaces.Find(state, user, session) is not var (present, mine))
        {
            Answer = new Decision(true, ""); // it is gone: nobody is there to say it
            return;
        }
        var decision = Answer = state.Topics.Decide(present, topic, TopicRights.Say);
        if (!decision.Allowed) return;
        var message = Messages.Said("topic:" + topic, present.Id.Value, present.Row.DisplayName, decision.Profile, data, state.Time);
        var key = $"said {state.NextSaid++}"; // none takes another's place
        var told = new HashSet<SessionPlace>();
        foreach (var (listener, only) in EphemeralCommand.Connected(state, new Addresses.Address(Addresses.AddressKind.Topic, topic)))
        {
            foreach (var place in only is null ? listener.Sessions : [only])
            {
                if ((place != mine || toSelf) && told.Add(place) && place.Session.OfferPassing(key, message, out _)) ledger.FlushLater(place.Session);
            }
        }
    }
}

/// <summary>A user follows a topic durably, or no more: an act of a person, answered when on disk. Answers what was decided
/// and what the user follows; without the right nothing changes.</summary>
/// <param name="space">The space's name.</param>
/// <param name="userId">Who.</param>
/// <param name="topic">The topic, in its one form.</param>
/// <param name="follow">True to follow, false to follow no more.</param>
/// <param name="most">The most topics a user may follow.</param>
/// <param name="by">The credential by which it is asked, which must hold still; null: nobody asks whose could end.</param>
public sealed class FollowCommand(string space, string userId, string topic, bool follow, int most, Identity? by = null) : LedgerCommand<(Decision Decision, IReadOnlyList<Followed> Follows, Totals Totals)>
{
    internal override void Write(Ledger ledger)
    {
        var state = ledger.Space(space);
        var user = Users.Required(state, userId, by);
        var decision = follow ? state.Topics.Decide(user, topic, TopicRights.Follow) : new Decision(true, "");
        if (decision.Allowed && follow != user.Follows.ContainsKey(topic))
        {
            if (follow && user.Follows.Count >= most) throw new Problem(422, "too-many-follows", "The user follows too many topics", $"The limit is {most} (topicsPerUser).", "Unfollow one first.").Throw();
            if (follow)
            {
                user.Follows[topic] = state.Head;
                user.Row = user.Row with { RulesSeen = state.Topics.RulesAt };
                ledger.Store.AddFollow(user.PersonId, topic, state.Head);
            }
            else
            {
                user.Follows.Remove(topic);
                ledger.Store.RemoveFollow(user.PersonId, topic);
                if (user.Follows.Count == 0) user.Row = user.Row with { RulesSeen = null };
            }
            ledger.NextRev(user);
            Roles.Reconsider(ledger, state, user, null);
        }
        state.EnsureLogs(user);
        Answer = (decision, Followed.Of(user), Ledger.TotalsOf(user));
    }
}

/// <summary>A topic that a user follows.</summary>
/// <param name="Topic">The topic.</param>
/// <param name="Active">False as long as the user may not: nothing of it is sent, listed or counted.</param>
public sealed record Followed(string Topic, bool Active)
{
    internal static IReadOnlyList<Followed> Of(UserState user) => [.. user.Follows.Keys.Order(StringComparer.Ordinal).Select(t => new Followed(t, user.Holds("topic:" + t)))];
}

/// <summary>The topics that a user follows.</summary>
public sealed class FollowsCommand(string space, string userId) : LedgerCommand<IReadOnlyList<Followed>>
{
    internal override bool MayOnlyRead => true;

    internal override void Write(Ledger ledger) => Answer = ledger.Space(space).Find(userId) is { } user ? Followed.Of(user) : [];
}

/// <summary>Finds a session among its user's.</summary>
static class SessionPlaces
{
    /// <summary>The session's user, whom a failed commit may have given another object, and its place; null: it is gone.</summary>
    public static (UserState User, SessionPlace Place)? Find(SpaceState state, UserState user, ISessionPort session)
    {
        var present = user.Sessions.Exists(s => s.Session == session) ? user : state.Find(user.PersonId) ?? user;
        return present.Sessions.Find(s => s.Session == session) is { } place ? (present, place) : null;
    }
}

/// <summary>Loads a version of the policies, all or nothing; whoever may no longer be on a channel leaves it before
/// anything that comes after it.</summary>
/// <param name="space">The space's name.</param>
/// <param name="policies">The policies.</param>
/// <param name="document">As they are stored.</param>
/// <param name="inPlaceOf">The version that must hold until now; null: any.</param>
public sealed class PutPoliciesCommand(string space, PolicySet policies, byte[] document, long? inPlaceOf) : LedgerCommand<PolicyVersion>
{
    internal override void Write(Ledger ledger)
    {
        var state = ledger.Space(space);
        if (inPlaceOf is { } expected && expected != state.Topics.Present.Position)
            throw new Problem(412, "other-version", "Another version of the policies holds", $"Version {state.Topics.Present.Position} holds, not {expected}.", "Read the version that holds (GET /v1/policies), and put your change into it.").Throw();
        var (position, time) = state.Draw();
        ledger.Store.AppendEntry(state.Id, new EntryRow(position, time, EntryKind.Policies, default, System.Text.Encoding.UTF8.GetBytes($"\"policies\":{policies.All.Count}"), "", [], NotificationTraits.None));
        Answer = new PolicyVersion(position.Value, time, document);
        ledger.Store.AddPolicies(state.Id, Answer);
        state.Topics.Load(position.Value, policies);
        foreach (var user in state.Connected.ToList())
        {
            if (user.Follows.Count == 0 && !user.Sessions.Exists(s => s.Topics.Count > 0 || s.Watched.Count > 0)) continue;
            if (user.Follows.Count > 0) user.Row = user.Row with { RulesSeen = position.Value };
            Roles.Reconsider(ledger, state, user, position.Value);
        }
    }
}

/// <summary>The policies in the version that held at a position; null: none were loaded.</summary>
public sealed class FindPoliciesCommand(string space, long? position) : LedgerCommand<PolicyVersion?>
{
    internal override bool MayOnlyRead => true;

    internal override void Write(Ledger ledger)
    {
        var state = ledger.Space(space);
        Answer = ledger.Store.PoliciesAt(state.Id, position ?? state.Head);
    }
}

/// <summary>A grant that is asked for.</summary>
/// <param name="User">To this user; null: to a role.</param>
/// <param name="Role">To this role; null: to a user.</param>
/// <param name="Topic">On this topic.</param>
/// <param name="Rights">What it lets do.</param>
/// <param name="For">How long; null: until it is ended.</param>
/// <param name="Until">Until when; null: see <paramref name="For"/>.</param>
/// <param name="Policy">The policy by which the backend was asked and allowed it; empty: none.</param>
/// <param name="Profile">What the backend says of the person to others, as JSON; empty: nothing.</param>
public sealed record GrantDraft(string? User, string? Role, string Topic, TopicRights Rights, TimeSpan? For, StoredTime? Until, string Policy = "", string Profile = "");

/// <summary>A grant with the user's id.</summary>
public sealed record GrantInfo(Grant Grant, string? User);

/// <summary>Gives a grant. An answer of the backend takes the place of the one before it.</summary>
public sealed class GrantCommand(string space, GrantDraft draft) : LedgerCommand<GrantInfo>
{
    internal override void Write(Ledger ledger)
    {
        var state = ledger.Space(space);
        var user = draft.User is null ? null : state.FindOrAdd(draft.User);
        long? since = null;
        if (draft.Policy.Length > 0)
        {
            foreach (var before in state.Topics.GrantsOn(draft.Topic).Where(g => g.Person == user!.PersonId && g.Policy == draft.Policy && g.Rights == draft.Rights).ToList())
            {
                since = Math.Min(since ?? long.MaxValue, before.Since);
                Grants.End(ledger, state, before, quietly: true);
            }
        }
        var (position, time) = state.Draw();
        StoredTime? until = draft.For is { } span ? new StoredTime(state.Due.Micros + (long)span.TotalMicroseconds) : draft.Until is { } at ? ledger.Clock.DueAt(at) : null;
        var grant = new Grant(position.Value, user?.PersonId ?? 0, draft.Role ?? "", draft.Topic, draft.Rights, until, null, draft.Policy, draft.Profile) { Since = since ?? position.Value };
        Grants.Entry(ledger, state, position, time, grant, "given");
        ledger.Store.AddGrant(state.Id, grant);
        if (until is { } end) ledger.Store.AddDue(state.Id, new DueRow(end, DueKind.GrantEnd, grant.Number, 0));
        Grants.Changed(ledger, state, grant, position.Value);
        Answer = Grants.Info(ledger, grant, draft.User);
    }
}

/// <summary>Ends a grant. Answers null when there is none that holds.</summary>
public sealed class EndGrantCommand(string space, long number) : LedgerCommand<GrantInfo?>
{
    internal override void Write(Ledger ledger)
    {
        var state = ledger.Space(space);
        if (ledger.Store.FindGrant(state.Id, number) is not { Ended: null } grant) return;
        Grants.End(ledger, state, grant, quietly: false);
        Answer = Grants.Info(ledger, grant, grant.Person == 0 ? null : state.Find(grant.Person)?.Id.Value);
    }
}

/// <summary>Lists grants that hold.</summary>
public sealed class ListGrantsCommand(string space, string? user, string? role, string? topic, long after, int limit) : LedgerCommand<IReadOnlyList<GrantInfo>>
{
    internal override bool MayOnlyRead => true;

    internal override void Write(Ledger ledger)
    {
        var state = ledger.Space(space);
        long? person = user is null ? null : state.Find(user)?.PersonId ?? 0;
        Answer = person == 0 ? [] : [.. ledger.Store.Grants(state.Id, person, role, topic, after, limit).Select(g => Grants.Info(ledger, g, g.Person == 0 ? null : state.Find(g.Person)?.Id.Value))];
    }
}

/// <summary>What grants do when they are given or end.</summary>
static class Grants
{
    /// <summary>A grant as it is shown.</summary>
    public static GrantInfo Info(Ledger ledger, Grant grant, string? user) => new(grant.Until is { } until ? grant with { Until = ledger.Clock.Shown(until) } : grant, user);

    /// <summary>A grant's time is up.</summary>
    public static void Due(Ledger ledger, SpaceState state, long number)
    {
        if (ledger.Store.FindGrant(state.Id, number) is { Ended: null } grant) End(ledger, state, grant, quietly: false);
    }

    /// <summary>Ends a grant.</summary>
    /// <param name="ledger">The ledger.</param>
    /// <param name="state">The space.</param>
    /// <param name="grant">The grant.</param>
    /// <param name="quietly">Another takes its place in the same moment: nobody's rights are looked at between.</param>
    public static void End(Ledger ledger, SpaceState state, Grant grant, bool quietly)
    {
        var (position, time) = state.Draw();
        Entry(ledger, state, position, time, grant, "ended");
        if (quietly) ledger.Store.RemoveGrant(state.Id, grant.Number);
        else ledger.Store.EndGrant(state.Id, grant.Number, position.Value);
        if (grant.Until is { } until) ledger.Store.RemoveDue(state.Id, new DueRow(until, DueKind.GrantEnd, grant.Number, 0));
        if (quietly) state.Topics.Forget(grant.Topic);
        else Changed(ledger, state, grant, position.Value);
    }

    /// <summary>Carries through what a grant changes: now for whoever is connected and for the user it is given to, at the next look for the others.</summary>
    public static void Changed(Ledger ledger, SpaceState state, Grant grant, long position)
    {
        state.Topics.Forget(grant.Topic);
        if (grant.Person != 0)
        {
            if (state.Find(grant.Person) is { } user && IsOn(user, grant.Topic)) Roles.Reconsider(ledger, state, user, position);
            return;
        }
        state.Topics.RulesAt = position;
        foreach (var user in state.Connected.ToList())
        {
            if (user.Follows.Count > 0) user.Row = user.Row with { RulesSeen = position };
            if (user.Holds("role:" + grant.Role) && IsOn(user, grant.Topic)) Roles.Reconsider(ledger, state, user, position);
        }
    }

    static bool IsOn(UserState user, string topic) => user.Follows.ContainsKey(topic) || user.Sessions.Exists(s => s.Topics.ContainsKey(topic) || s.Watched.ContainsKey("topic:" + topic));

    /// <summary>Stores what changed, as an entry; people by the store's number.</summary>
    public static void Entry(Ledger ledger, SpaceState state, Position position, StoredTime time, Grant grant, string what)
    {
        var message = new MessageBuilder("grant");
        message.Writer.WriteString("what", what);
        message.Writer.WriteNumber("grant", grant.Number);
        if (grant.Person != 0) message.Writer.WriteNumber("person", grant.Person);
        else message.Writer.WriteString("role", grant.Role);
        message.Writer.WriteString("topic", grant.Topic);
        message.Writer.WriteStartArray("may");
        foreach (var name in RightNames.Of(grant.Rights)) message.Writer.WriteStringValue(name);
        message.Writer.WriteEndArray();
        ledger.Store.AppendEntry(state.Id, new EntryRow(position, time, EntryKind.Grant, default, message.Close(), "", [], NotificationTraits.None));
    }
}

/// <summary>The backend's answers that end soon by which somebody is on a channel now: they are asked for again in time.</summary>
public sealed class EndingAnswersCommand(string space, TimeSpan within) : LedgerCommand<IReadOnlyList<GrantInfo>>
{
    internal override bool MayOnlyRead => true;

    internal override void Write(Ledger ledger)
    {
        var state = ledger.Space(space);
        var found = new List<GrantInfo>();
        foreach (var due in ledger.Store.Due(state.Id, new StoredTime(state.Due.Micros + (long)within.TotalMicroseconds), 1000))
        {
            if (due.Kind != DueKind.GrantEnd || ledger.Store.FindGrant(state.Id, due.Position) is not { Ended: null, Policy.Length: > 0 } grant) continue;
            if (state.Find(grant.Person) is { } user && (user.Holds("topic:" + grant.Topic) || user.Sessions.Exists(s => s.Topics.ContainsKey(grant.Topic)))) found.Add(new GrantInfo(grant, user.Id.Value));
        }
        Answer = found;
    }
}

/// <summary>What a backend that is asked may know of a user.</summary>
/// <param name="Roles">The roles held.</param>
/// <param name="Claims">What the newest token says that policies look at.</param>
public sealed record UserFacts(IReadOnlyList<string> Roles, IReadOnlyDictionary<string, IReadOnlyList<string>> Claims);

/// <summary>Reads what a backend that is asked may know of a user.</summary>
public sealed class FactsCommand(string space, string userId) : LedgerCommand<UserFacts>
{
    internal override bool MayOnlyRead => true;

    internal override void Write(Ledger ledger)
    {
        var user = ledger.Space(space).Find(userId);
        Answer = user is null ? new UserFacts([], new Dictionary<string, IReadOnlyList<string>>())
            : new UserFacts([.. user.Held.Where(a => a.StartsWith("role:", StringComparison.Ordinal)).Select(a => a[5..]).Order(StringComparer.Ordinal)], ClaimSet.Read(user.Row.Claims));
    }
}

/// <summary>Decides one right of a user as things are now, and does nothing.</summary>
public sealed class DecideCommand(string space, string userId, string topic, TopicRights right) : LedgerCommand<Decision>
{
    internal override bool MayOnlyRead => true;

    internal override void Write(Ledger ledger)
    {
        var state = ledger.Space(space);
        Answer = state.Find(userId) is { } user ? state.Topics.Decide(user, topic, right) : new Decision(false, "");
    }
}

/// <summary>The decider that a policy asks now; null: there is no such policy, or it asks nobody.</summary>
public sealed class AskedByCommand(string space, string policy) : LedgerCommand<string?>
{
    internal override bool MayOnlyRead => true;

    internal override void Write(Ledger ledger) => Answer = ledger.Space(space).Topics.Present.Set.All.FirstOrDefault(p => p.Name == policy)?.Ask;
}

/// <summary>A user's number in the store; null: nobody is known by that id.</summary>
public sealed class NumberCommand(string space, string userId) : LedgerCommand<long?>
{
    internal override bool MayOnlyRead => true;

    internal override void Write(Ledger ledger) => Answer = ledger.Space(space).Find(userId)?.PersonId;
}
